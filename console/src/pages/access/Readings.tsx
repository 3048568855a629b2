import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { usePreflight, useReadings, useTrail } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Answer } from "./Answer";
import { ManifestDialog } from "./ManifestDialog";

// Readings is what somebody reads, with which version, and what they were refused last.
export function Readings({ subject }: { subject: string }) {
  const reads = useReadings(subject);
  const list = reads.data?.reads ?? [];
  const preflight = usePreflight(subject);
  const [asking, setAsking] = useState(false);
  const answers = new Map((preflight.data?.checks ?? []).map((c) => [c.reference, c]));
  return (
    <section aria-label="What it reads">
      <div className="mb-2 flex items-center justify-between gap-4">
        <h2 className="text-xl font-semibold">What it reads</h2>
        <span className="flex gap-2">
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsking(true)}>Check a manifest …</button>
          {list.length > 0 && <button type="button" className="btn btn-outline btn-sm" disabled={preflight.isPending} onClick={() => preflight.mutate(list.slice(0, 100).map((r) => r.reference))}>Would it be served now?</button>}
        </span>
      </div>
      {preflight.error && <div className="mb-4"><ProblemBox error={preflight.error} /></div>}
      {reads.isPending && <Loading what="what it reads" />}
      {reads.error && <ProblemBox error={reads.error} />}
      {reads.data && list.length === 0 && <p className="muted">It has read nothing yet, or nothing that you may know of.</p>}
      {list.length > 0 && (
        <Scroll label="Table of what it reads">
          <table className="dense table">
            <thead><tr><th scope="col">Item</th><th scope="col">Version</th><th scope="col">Current</th><th scope="col">Times</th><th scope="col">First</th><th scope="col">Last</th><th scope="col">Note</th>{preflight.data && <th scope="col">Now</th>}</tr></thead>
            <tbody>
              {list.map((r) => (
                <tr key={r.reference}>
                  <td><Link className="link link-hover name" to={`/drawers/${r.reference}`}>{r.reference}</Link></td>
                  <td className="tabular-nums">{r.version}</td>
                  <td className="tabular-nums">{r.current || "none"}</td>
                  <td className="tabular-nums">{r.count}</td>
                  <td><When at={r.first} /></td>
                  <td><When at={r.last} /></td>
                  <td><Note of={r} /></td>
                  {preflight.data && <td><Answer of={answers.get(r.reference)} /></td>}
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      <LastRefusals subject={subject} />
      {asking && <ManifestDialog subject={subject} onClose={() => setAsking(false)} />}
    </section>
  );
}

function Note({ of: r }: { of: Schemas["Reading"] }) {
  if (r.current === 0) return <Mark state="expired" word="Nothing is served" />;
  if (r.version === r.current) return null;
  return r.pinned ? <Mark state="expired" word="Asks for an old version by its number" /> : <Mark state="open" word="Has not read the current one yet" />;
}

function LastRefusals({ subject }: { subject: string }) {
  const refused = useTrail({ subject, outcome: "refused" });
  const list = (refused.data?.entries ?? []).slice(0, 5);
  if (list.length === 0) return null;
  return (
    <>
      <h3 className="mt-6 mb-2 font-semibold">Refused last</h3>
      <ul className="divide-base-300 divide-y">
        {list.map((e) => (
          <li key={e.seq} className="flex flex-wrap gap-x-6 py-2">
            <span><When at={e.at} /></span> <span>{e.action.replaceAll("_", " ")} <span className="name">{e.target}</span></span> <span>{(e.reason ?? "").replaceAll("_", " ")}</span>
            {e.receipt && <Link className="link name" to={`/receipts/${e.receipt}`}>{e.receipt}<span className="sr-only">: why, and what would allow it</span></Link>}
          </li>
        ))}
      </ul>
    </>
  );
}
