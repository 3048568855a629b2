import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Mark } from "../../parts/Mark";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";

const time = (at?: string) => (at ? new Date(at).getTime() : Infinity);

const kindOf = (it: Schemas["Item"]) => (it.key ? `key, ${it.key.type}` : it.kind);

// Items are those of a drawer, as a list.
export function Items({ drawer, items }: { drawer: string; items: Schemas["Item"][] }) {
  return (
    <Table
      label="Items"
      rows={items}
      id={(it) => it.name}
      find={(it) => `${it.name} ${it.state} ${it.owner} ${it.description} ${it.changed_by}`}
      columns={[
        {
          head: "Item",
          className: "sm:min-w-44 max-w-80",
          sort: (it) => it.name,
          cell: (it) => (
            <Link className="link link-hover name font-medium" to={`/drawers/${drawer}/${it.name}`}>
              {it.name}
            </Link>
          ),
        },
        items.some((it) => it.kind !== "secret") && {
          head: "Kind",
          className: "whitespace-nowrap",
          sort: kindOf,
          cell: (it) => <span className="text-sm">{kindOf(it)}</span>,
        },
        { head: "State", sort: (it) => it.state, cell: (it) => <Mark state={it.state} /> },
        {
          head: "Current",
          className: "whitespace-nowrap",
          cell: (it) => (it.current ? `version ${it.current} of ${it.versions}` : `none of ${it.versions}`),
        },
        { head: "Ends", sort: (it) => time(it.ends_at), cell: (it) => <When at={it.ends_at} none="no end" /> },
        {
          head: "Changed",
          sort: (it) => -time(it.changed_at),
          cell: (it) => (
            <>
              <When at={it.changed_at} />
              <span className="name muted block text-sm">{it.changed_by}</span>
            </>
          ),
        },
        { head: "Description", cell: (it) => it.description },
      ]}
    />
  );
}
