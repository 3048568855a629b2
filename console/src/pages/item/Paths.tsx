import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { usePaths } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import type { WhatIsAsked } from "./keyWords";

// Paths says, when asked, who could come to read an item, in how many steps, and by whose help.
export function Paths({ target, action, word }: WhatIsAsked) {
  const [asked, setAsked] = useState(false);
  const paths = usePaths(action, target, asked);
  return (
    <section aria-label="Who could gain access to it">
      <h2 className="mb-2 text-xl font-semibold">Who could gain access to it</h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Find ways to gain access
        </button>
      )}
      {asked && paths.isPending && <p className="muted">Checking what each person who manages access could do …</p>}
      {paths.error && <ProblemBox error={paths.error} />}
      {paths.data && (
        <div className="grid gap-6">
          <Ways
            title="Alone, without anybody's help"
            none={`Nobody who cannot ${word} it now could gain access alone.`}
            ways={paths.data.alone}
          />
          <Ways
            title={`Who could let somebody else ${word} it`}
            none={`Nobody could let somebody else ${word} it.`}
            ways={paths.data.letting}
          />
          {paths.data.cut && (
            <p className="text-warning font-semibold">There were too many paths to check all of them: some may be missing.</p>
          )}
        </div>
      )}
    </section>
  );
}

function Ways({ title, none, ways }: { title: string; none: string; ways: Schemas["Way"][] }) {
  return (
    <div>
      <h3 className="mb-1 font-semibold">{title}</h3>
      {ways.length === 0 && (
        <p>
          <Mark state="allowed" word="Nobody" /> <span className="muted">{none}</span>
        </p>
      )}
      <ul className="divide-base-300 divide-y">
        {ways.map((w) => (
          <li key={w.who} className="grid gap-x-6 gap-y-1 py-2 md:grid-cols-[minmax(14rem,1fr)_2fr]">
            <p>
              {[w.who, ...w.alike].map((who) => (
                <Link key={who} className="link link-hover name block" to={`/access/${who}`}>
                  {who}
                </Link>
              ))}
            </p>
            <ol className="list-decimal pl-5">
              {w.steps.map((step) => (
                <li key={step.does}>
                  {step.by !== w.who && (
                    <>
                      <span className="name">{step.by}</span>{" "}
                    </>
                  )}
                  {step.does}
                </li>
              ))}
            </ol>
          </li>
        ))}
      </ul>
    </div>
  );
}
