import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Table } from "../../parts/Table";

// Considered are the grants that came nearest, and what kept each from allowing it.
export function Considered({ list }: { list: Schemas["Verdict"]["considered"] }) {
  return (
    <Table
      label="Table of the nearest grants"
      rows={list.slice(0, 20)}
      id={(c) => c.grant.id}
      columns={[
        {
          head: "Given to",
          cell: (c) => (
            <Link className="link link-hover name" to={`/access/${c.grant.subject}`}>
              {c.grant.subject}
            </Link>
          ),
        },
        { head: "Role", className: "font-semibold", cell: (c) => (c.grant.effect === "deny" ? `denied ${c.grant.role}` : c.grant.role) },
        { head: "Scope", className: "name", cell: (c) => c.grant.scope },
        { head: "What did not fit", cell: (c) => c.miss || "nothing: it applies" },
        { head: "Given by", className: "name text-sm", cell: (c) => c.grant.created_by },
      ]}
    />
  );
}
