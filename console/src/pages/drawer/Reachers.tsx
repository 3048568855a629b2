import { useState } from "react";
import { Link } from "react-router";
import { useMatrix } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import { Cell, Legend } from "../access/Cell";
import { CellDialog } from "../access/CellDialog";

// Reachers lists, when asked, who may do something in a drawer, and why.
export function Reachers({ drawer }: { drawer: string }) {
  const [asked, setAsked] = useState(false);
  const matrix = useMatrix({ drawer }, asked);
  const [open, setOpen] = useState("");
  const rows = matrix.data?.rows ?? [];
  return (
    <section aria-labelledby="reachers" className="mt-10">
      <h2 id="reachers" className="mb-2 text-xl font-semibold">
        Who has access to it
      </h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Show who has access
        </button>
      )}
      {matrix.error && <ProblemBox error={matrix.error} />}
      {matrix.data && rows.length === 0 && (
        <p>
          <Mark state="overdue" word="Nobody" />
        </p>
      )}
      {rows.length > 0 && (
        <>
          <Legend />
          <Table
            label="Table of who has access"
            rows={rows}
            id={(r) => r.subject}
            find={(r) => r.subject}
            columns={[
              {
                head: "Who",
                sort: (r) => r.subject,
                cell: (r) => (
                  <Link className="link link-hover name" to={`/access/${r.subject}`}>
                    {r.subject}
                  </Link>
                ),
              },
              { head: "State", sort: (r) => r.state, cell: (r) => <Mark state={r.state} word={r.state.replace("_", " ")} /> },
              {
                head: "May",
                cell: (r) =>
                  r.cells[0] && <Cell cell={r.cells[0]} label={`${r.subject} in ${drawer}`} inline onOpen={() => setOpen(r.subject)} />,
              },
            ]}
          />
        </>
      )}
      {open && <CellDialog subject={open} drawer={drawer} onClose={() => setOpen("")} />}
    </section>
  );
}
