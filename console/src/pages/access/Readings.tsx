import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { usePreflight, useReadings } from "../../api/queries";
import { useTrail } from "../../api/trail";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { Answer } from "./Answer";
import { ManifestDialog } from "./ManifestDialog";

type Reading = Schemas["Reading"];

const time = (at: string) => -new Date(at).getTime();

// Readings is what somebody reads, with which version, and what they were refused last.
export function Readings({ subject }: { subject: string }) {
  const may = useMay();
  const self = subject === may.subject;
  const trail = may.somewhere("read_trail");
  const asks = may.somewhere("grant", "read_trail") || self || may.owned.includes(subject);
  const reads = useReadings(subject, trail || self);
  const list = reads.data?.reads ?? [];
  const preflight = usePreflight(subject);
  const [asking, setAsking] = useState(false);
  const answers = new Map((preflight.data?.checks ?? []).map((c) => [c.reference, c]));
  if (!asks) return null;
  return (
    <section aria-label="What it reads">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-4">
        <h2 className="text-xl font-semibold">What it reads</h2>
        <span className="flex flex-wrap gap-2 print:hidden">
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsking(true)}>
            Check a manifest …
          </button>
          {list.length > 0 && (
            <button
              type="button"
              className="btn btn-outline btn-sm"
              disabled={preflight.isPending}
              onClick={() => preflight.mutate(list.slice(0, 100).map((r) => r.reference))}
            >
              Would it be served now?
            </button>
          )}
        </span>
      </div>
      {preflight.error && (
        <div className="mb-4">
          <ProblemBox error={preflight.error} />
        </div>
      )}
      {!trail && !self && <p className="muted">What it has read is in the trail, which takes the role auditor.</p>}
      {reads.isFetching && !reads.data && <Loading what="what it reads" />}
      {reads.error && <ProblemBox error={reads.error} />}
      {reads.data && list.length === 0 && <p className="muted">It has read nothing yet, or nothing that you may know of.</p>}
      {list.length > 0 && (
        <Table
          label="Table of what it reads"
          rows={list}
          id={(r) => `${r.reference} ${r.version}`}
          find={(r) => r.reference}
          columns={[
            {
              head: "Item",
              sort: (r) => r.reference,
              cell: (r) => (
                <Link className="link link-hover name" to={`/drawers/${r.reference}`}>
                  {r.reference}
                </Link>
              ),
            },
            { head: "Version", className: "tabular-nums", cell: (r) => r.version },
            { head: "Current", className: "tabular-nums", cell: (r) => r.current || "none" },
            { head: "Times", className: "tabular-nums", sort: (r) => -r.count, cell: (r) => r.count },
            { head: "First", sort: (r) => time(r.first), cell: (r) => <When at={r.first} /> },
            { head: "Last", sort: (r) => time(r.last), cell: (r) => <When at={r.last} /> },
            { head: "Note", cell: (r) => <Note of={r} /> },
            preflight.data !== undefined && { head: "Now", cell: (r: Reading) => <Answer of={answers.get(r.reference)} /> },
          ]}
        />
      )}
      {trail && <LastRefusals subject={subject} />}
      {asking && <ManifestDialog subject={subject} onClose={() => setAsking(false)} />}
    </section>
  );
}

function Note({ of: r }: { of: Schemas["Reading"] }) {
  if (r.current === 0) return <Mark state="expired" word="Nothing is served" />;
  if (r.version === r.current) return null;
  return r.pinned ? (
    <Mark state="expired" word="Pinned to an old version" />
  ) : (
    <Mark state="open" word="Has not read the current one yet" />
  );
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
            <span>
              <When at={e.at} />
            </span>{" "}
            <span>
              {e.action.replaceAll("_", " ")} <span className="name">{e.target}</span>
            </span>{" "}
            <span>{(e.reason ?? "").replaceAll("_", " ")}</span>
            {e.receipt && (
              <Link className="link name" to={`/receipts/${e.receipt}`}>
                {e.receipt}
                <span className="sr-only">: why, and what would allow it</span>
              </Link>
            )}
          </li>
        ))}
      </ul>
    </>
  );
}
