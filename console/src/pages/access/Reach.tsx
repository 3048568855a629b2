import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../../api/may";
import { useReach } from "../../api/rights";
import { actionsText } from "../../parts/actions";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";

// Reach lists, when asked, everything that exists and that a subject may do something with.
export function Reach({ subject }: { subject: string }) {
  const [asked, setAsked] = useState(false);
  const reach = useReach(subject, asked);
  const may = useMay();
  const list = reach.data?.reach ?? [];
  if (!may.chest("grant", "read_trail") && subject !== may.subject && !may.owned.includes(subject)) return null;
  return (
    <section aria-label="What it can access">
      <h2 className="mb-2 text-xl font-semibold">
        What it can access {reach.data && <span className="muted font-sans text-base font-normal">{list.length}</span>}
      </h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Show everything it can access
        </button>
      )}
      {reach.error && <ProblemBox error={reach.error} />}
      {reach.data && list.length === 0 && <p className="muted">Nothing that exists.</p>}
      {list.length > 0 && (
        <Table
          label="Table of what it can access"
          rows={list}
          id={(r) => r.target}
          find={(r) => `${r.target} ${r.actions.join(" ")}`}
          columns={[
            {
              head: "Target",
              sort: (r) => r.target,
              cell: (r) =>
                r.target ? (
                  <Link className="link link-hover name" to={`/drawers/${r.target}`}>
                    {r.target}
                  </Link>
                ) : (
                  "the chest"
                ),
            },
            { head: "Actions", className: "text-sm", cell: (r) => actionsText(r.actions) },
          ]}
        />
      )}
    </section>
  );
}
