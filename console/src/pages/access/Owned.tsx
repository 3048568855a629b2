import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useHandOver, useOwned } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { SubjectField } from "../../parts/SubjectField";

// So many are listed at first.
const shown = 50;

// Owned lists what somebody answers for, and hands it over in one step.
export function Owned({ identity }: { identity: Schemas["Identity"] }) {
  const owned = useOwned(identity.subject);
  const handOver = useHandOver(identity.subject);
  const hands = useMay().chest("register");
  const [to, setTo] = useState("");
  const [all, setAll] = useState(false);
  const o = owned.data;
  const things = o
    ? [
        ...o.apps.map((a) => ({ to: `/access/${a}`, text: a })),
        ...[...o.drawers, ...o.items].map((d) => ({ to: `/drawers/${d}`, text: d })),
        ...o.master_keys.map((k) => ({ to: "/operation", text: `master key ${k}` })),
      ]
    : [];
  if (things.length === 0) return null;
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    setTo(String(new FormData(event.currentTarget).get("to")));
  };
  return (
    <section aria-label="What it answers for">
      <h2 className="mb-2 text-xl font-semibold">
        Answers for <span className="muted font-sans text-base font-normal">{things.length}</span>
      </h2>
      {identity.state !== "active" && <p className="text-warning mb-2 font-semibold">Nobody answers for this now: hand it over.</p>}
      <ul className="flex flex-wrap gap-x-6 gap-y-1">
        {things.slice(0, all ? undefined : shown).map((t) => (
          <li key={t.text}>
            <Link className="link link-hover name text-sm" to={t.to}>
              {t.text}
            </Link>
          </li>
        ))}
      </ul>
      {!all && things.length > shown && (
        <button type="button" className="btn btn-ghost btn-sm mt-1" onClick={() => setAll(true)}>
          Show {things.length - shown} more
        </button>
      )}
      {hands && (
        <form className="mt-3 flex flex-wrap items-end gap-3" onSubmit={submit}>
          <div className="grow">
            <SubjectField
              label="Hand everything over to"
              name="to"
              kinds={["person", "team"]}
              required
              placeholder="person:harbour-master"
            />
          </div>
          <button type="submit" className="btn btn-outline" disabled={handOver.isPending}>
            Hand over …
          </button>
        </form>
      )}
      {to && (
        <Confirm
          title={`Hand everything over to ${to}?`}
          action="Hand over"
          busy={handOver.isPending}
          error={handOver.error}
          onYes={() => handOver.mutate(to, { onSuccess: () => setTo("") })}
          onClose={() => setTo("")}
        >
          <p>
            <span className="name">{to}</span> answers from now on for {things.length === 1 ? "it" : `these ${things.length} things`}{" "}
            instead of <span className="name">{identity.subject}</span>. Access is not handed over.
          </p>
        </Confirm>
      )}
    </section>
  );
}
