import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useStatus } from "../../api/operation";
import { PageHead } from "../../parts/PageHead";
import { When } from "../../parts/When";
import { Backups } from "./Backups";
import { Condition } from "./Condition";
import { MasterKeys } from "./MasterKeys";
import { Methods } from "./Methods";
import { Shares } from "./Shares";

const sentence = (text: string) => text.charAt(0).toUpperCase() + text.slice(1);

// OperationPage is for whoever looks after the chest as a whole: what is wrong, what opens it, and what brings it back.
export function OperationPage({ me }: { me: Schemas["Me"] }) {
  const status = useStatus();
  // Where the share stands is settled when the page is opened: it is shown once, and must not go with its place when it is taken.
  const [waited] = useState(me.shares_waiting > 0);
  const problems = status.data?.problems ?? [];
  return (
    <>
      <PageHead title="Operation">How this chest is unlocked, how it is restored, and what needs attention.</PageHead>
      {problems.length > 0 && (
        <section aria-label="What is wrong" className="mb-8 grid gap-3">
          {problems.map((p) => (
            <div key={p.what} role="alert" className="border-error bg-base-200 rounded-box border-l-4 p-4">
              <p className="font-semibold">
                {sentence(p.what)}
                {p.since && (
                  <span className="muted font-normal">
                    {" "}
                    · began <When at={p.since} />
                  </span>
                )}
              </p>
              <p className="text-sm">{p.next.startsWith("tansu ") ? <code className="name">{p.next}</code> : sentence(p.next)}</p>
            </div>
          ))}
        </section>
      )}
      <div className="grid grid-cols-1 gap-10">
        {waited && <Shares />}
        {me.operate && <Methods />}
        {(me.operate || me.master_keys > 0) && <MasterKeys operates={me.operate} />}
        {me.operate && <Backups />}
        {!waited && <Shares />}
        {me.operate && <Condition />}
      </div>
    </>
  );
}
