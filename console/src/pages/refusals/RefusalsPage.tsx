import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useDecline, useGive, useRefusals } from "../../api/queries";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { ReasonDialog } from "../../parts/ReasonDialog";
import { Scroll } from "../../parts/Scroll";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Requests } from "./Requests";

// RefusalsPage is a gatekeeper's queue: what was refused and would be refused again, with one press to allow it.
export function RefusalsPage({ me }: { me: Schemas["Me"] }) {
  const refusals = useRefusals();
  const give = useGive();
  const decline = useDecline();
  const [declining, setDeclining] = useState<Schemas["RefusalGroup"] | null>(null);
  const list = refusals.data?.refusals ?? [];
  const allow = (r: Schemas["RefusalGroup"]) =>
    r.remedy && give.mutate({ subject: r.remedy.subject, role: r.remedy.role, scope: r.remedy.scope, reason: `receipt ${r.receipt}` });
  return (
    <>
      <PageHead title="Asked and refused" />
      <Requests me={me} />
      <h2 className="text-xl font-semibold">Refusals</h2>
      <p className="muted mb-3 max-w-prose">What was refused in the last seven days and would be refused now. A grant given here is the smallest that allows it, for 90 days.</p>
      {refusals.isPending && <Loading what="the refusals" />}
      {refusals.error && <ProblemBox error={refusals.error} />}
      {give.error && <div className="mb-4"><ProblemBox error={give.error} /></div>}
      {give.data && <p role="status" className="bg-base-200 border-success mb-4 border-l-4 p-3"><span className="name">{give.data.grant.subject}</span> is {give.data.grant.role} on <span className="name">{give.data.grant.scope}</span>, in force now.</p>}
      {refusals.data && list.length === 0 && <Empty title="Nobody is waiting">Everything that was refused lately is allowed now, or nothing was.</Empty>}
      {list.length > 0 && (
        <Scroll label="Table of refusals">
          <table className="dense table">
            <thead><tr><th scope="col">Who</th><th scope="col">Wanted to</th><th scope="col">Why not</th><th scope="col">Times</th><th scope="col">Last</th><th scope="col">Receipt</th><th scope="col"><span className="sr-only">Do</span></th></tr></thead>
            <tbody>
              {list.map((r) => (
                <tr key={r.receipt}>
                  <td className="min-w-44"><Link className="link link-hover name" to={`/access/${r.subject}`}>{r.subject}</Link>{r.owner && <><br /><span className="name muted text-sm">{r.owner}</span></>}</td>
                  <td className="min-w-44">{r.action.replaceAll("_", " ")}<br /><span className="name text-sm">{r.target || "the chest"}</span></td>
                  <td>{r.reason.replaceAll("_", " ")}</td>
                  <td className="tabular-nums">{r.count}</td>
                  <td><When at={r.last} /></td>
                  <td><Link className="link name text-sm" to={`/receipts/${r.receipt}`}>{r.receipt}</Link></td>
                  <td className="whitespace-nowrap">{r.remedy && r.subject !== me.subject && <button type="button" className="btn btn-outline btn-xs" disabled={give.isPending} onClick={() => allow(r)}>Allow<span className="sr-only"> {r.subject} {r.action} on {r.target}</span></button>} <button type="button" className="btn btn-ghost btn-xs" onClick={() => setDeclining(r)}>No …<span className="sr-only"> {r.subject} {r.action} on {r.target}</span></button></td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {declining && (
        <ReasonDialog title={`Say no to ${declining.subject}`} label="Why not?" hint="Whoever is refused the same again reads this." action="Say no" busy={decline.isPending} error={decline.error}
          onSay={(because) => decline.mutate({ receipt: declining.receipt, because }, { onSuccess: () => setDeclining(null) })} onClose={() => setDeclining(null)} />
      )}
    </>
  );
}
