import type { Schemas } from "../api/client";
import { actionsText } from "./actions";
import { Mark } from "./Mark";
import { Table } from "./Table";

// Difference says who gains and who loses what by a change, on what exists now.
export function Difference({ of: difference }: { of: Schemas["Difference"] }) {
  return (
    <div className="grid gap-3">
      {difference.changes.length === 0 && <p className="muted">Nobody gains or loses access to anything that exists now.</p>}
      {difference.changes.length > 0 && (
        <Table
          label="Table of who gains and loses what"
          rows={difference.changes.flatMap(rowsOf)}
          id={(r) => `${r.subject} ${r.state} ${r.targets.join()}`}
          find={(r) => `${r.subject} ${r.state} ${r.targets.join(" ")}`}
          columns={[
            { head: "Who", className: "name sm:min-w-44", sort: (r) => r.subject, cell: (r) => r.subject },
            {
              head: "What changes",
              sort: (r) => r.state,
              cell: (r) => <Mark state={r.state} word={r.state === "altered" ? "on other terms" : r.state} />,
            },
            { head: "Actions", className: "sm:min-w-32", cell: (r) => actionsText(r.actions) },
            { head: "On", className: "sm:min-w-52", cell: (r) => <Targets list={r.targets} /> },
          ]}
        />
      )}
      {difference.notes.map((n) => (
        <p key={n} className="text-warning font-semibold">
          Note: {n}
        </p>
      ))}
    </div>
  );
}

// rowsOf are what somebody gains, loses, and keeps on other terms, a row each.
function rowsOf({ subject, targets, gained, lost, altered }: Schemas["Change"]) {
  const parts = [
    { state: "gains", actions: gained },
    { state: "loses", actions: lost },
    { state: "altered", actions: altered },
  ];
  return parts.filter((p) => p.actions.length > 0).map((p) => ({ ...p, subject, targets }));
}

const most = 8;

function Targets({ list }: { list: string[] }) {
  return (
    <ul>
      {list.slice(0, most).map((t) => (
        <li key={t} className="name text-sm">
          {t || "the chest"}
        </li>
      ))}
      {list.length > most && <li className="muted text-sm">and {list.length - most} more</li>}
    </ul>
  );
}
