import type { FormEvent } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useHandOver, useOwned } from "../../api/queries";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

// Owned lists what somebody answers for, and hands it over in one step.
export function Owned({ identity }: { identity: Schemas["Identity"] }) {
  const owned = useOwned(identity.subject);
  const handOver = useHandOver(identity.subject);
  const o = owned.data;
  const things = o ? [...o.apps.map((a) => ({ to: `/access/${a}`, text: a })), ...[...o.drawers, ...o.items].map((d) => ({ to: `/drawers/${d}`, text: d }))] : [];
  if (things.length === 0) return null;
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    handOver.mutate(String(new FormData(event.currentTarget).get("to")));
  };
  return (
    <section aria-label="What it answers for">
      <h2 className="mb-2 text-xl font-semibold">Answers for <span className="muted font-sans text-base font-normal">{things.length}</span></h2>
      {identity.state !== "active" && <p className="text-warning mb-2 font-semibold">It is not there any more: hand this over.</p>}
      <ul className="flex flex-wrap gap-x-6 gap-y-1">{things.map((t) => <li key={t.text}><Link className="link link-hover name text-sm" to={t.to}>{t.text}</Link></li>)}</ul>
      <form className="mt-3 flex flex-wrap items-end gap-3" onSubmit={submit}>
        <div className="grow"><Field label="Hand everything over to" name="to" required className="name" placeholder="person:harbour-master" /></div>
        <button type="submit" className="btn btn-outline" disabled={handOver.isPending}>Hand over</button>
      </form>
      {handOver.error && <div className="mt-3"><ProblemBox error={handOver.error} /></div>}
    </section>
  );
}
