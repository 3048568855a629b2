import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useActivity, useUnusual } from "../../api/trail";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";

const kinds: Record<string, [string, string]> = {
  first_read: ["gains", "first read"],
  new_network: ["failed", "new network"],
  new_hour: ["waiting", "new hour"],
  burst: ["failed", "burst"],
  ending: ["due", "ends soon"],
  gone: ["expired", "not served"],
  guessing: ["refused", "guessing"],
  clock: ["failed", "clock set back"],
  proof: ["refused", "used twice"],
};

// ActivityPage shows what stands out, and how much is read.
export function ActivityPage() {
  const [days, setDays] = useState(30);
  const unusual = useUnusual(days);
  const activity = useActivity(days);
  return (
    <>
      <PageHead
        above={{ to: "/trail", text: "the trail" }}
        title="Reads and anomalies"
        aside={
          <label className="flex items-center gap-2 text-sm font-semibold">
            The last
            <select className="select select-sm w-28" value={days} onChange={(e) => setDays(Number(e.target.value))}>
              {[1, 7, 30, 90].map((d) => (
                <option key={d} value={d}>
                  {d === 1 ? "day" : `${d} days`}
                </option>
              ))}
            </select>
          </label>
        }
      />
      <section aria-labelledby="stands-out" className="mb-10">
        <h2 id="stands-out" className="mb-2 text-xl font-semibold">
          Anomalies
        </h2>
        {unusual.isPending && <Loading what="what is unusual" />}
        {unusual.error && <ProblemBox error={unusual.error} />}
        {unusual.data?.unusual.length === 0 && <Empty title="No anomalies">No first reads, new networks, unusual hours or bursts.</Empty>}
        {unusual.data && unusual.data.unusual.length > 0 && <Unusual list={unusual.data.unusual} />}
      </section>
      <section aria-labelledby="by-day">
        <h2 id="by-day" className="mb-2 text-xl font-semibold">
          Reads by day, drawer and reader
        </h2>
        {activity.isPending && <Loading what="the reads" />}
        {activity.error && <ProblemBox error={activity.error} />}
        {activity.data?.activity.length === 0 && <Empty title="Nothing was read">Nothing that you may know of.</Empty>}
        {activity.data && activity.data.activity.length > 0 && <Reads list={activity.data.activity} />}
      </section>
    </>
  );
}

function Unusual({ list }: { list: Schemas["Unusual"][] }) {
  return (
    <Table
      label="Table of anomalies"
      rows={list.map((u, n) => ({ ...u, n }))}
      id={(u) => String(u.n)}
      find={(u) => `${kinds[u.kind]?.[1] ?? u.kind} ${u.subject} ${u.target} ${u.detail}`}
      columns={[
        {
          head: "What",
          sort: (u) => u.kind,
          cell: (u) => <Mark state={kinds[u.kind]?.[0] ?? "open"} word={kinds[u.kind]?.[1] ?? u.kind} />,
        },
        { head: "When", sort: (u) => -new Date(u.at).getTime(), cell: (u) => <When at={u.at} /> },
        {
          head: "Who",
          className: "name text-sm",
          sort: (u) => u.subject,
          cell: (u) =>
            u.subject && (
              <Link className="link link-hover" to={`/access/${u.subject}`}>
                {u.subject}
              </Link>
            ),
        },
        {
          head: "On",
          className: "name text-sm",
          sort: (u) => u.target,
          cell: (u) =>
            u.target && (
              <Link className="link link-hover" to={`/drawers/${u.target}`}>
                {u.target}
              </Link>
            ),
        },
        { head: "Detail", className: "text-sm", cell: (u) => u.detail },
        {
          head: "Entry",
          cell: (u) =>
            u.seq ? (
              <Link className="link tabular-nums" to={`/trail/${u.seq}`}>
                {u.seq}
              </Link>
            ) : null,
        },
      ]}
    />
  );
}

type Row = { drawer: string; subject: string; total: number; days: Map<string, number> };

// Reads has a row for each drawer and reader, and in it a bar for each day. All bars have one scale, each has its number to
// read out, and the row its sum, so that nothing depends on colour.
function Reads({ list }: { list: Schemas["Activity"][] }) {
  const rows = new Map<string, Row>();
  const days = new Set<string>();
  for (const h of list) {
    const day = h.hour.slice(0, 10);
    days.add(day);
    const key = `${h.drawer} ${h.subject}`;
    const row = rows.get(key) ?? { drawer: h.drawer, subject: h.subject, total: 0, days: new Map<string, number>() };
    row.total += h.count;
    row.days.set(day, (row.days.get(day) ?? 0) + h.count);
    rows.set(key, row);
  }
  const between = daysBetween([...days].sort());
  const sorted = [...rows.values()].sort((a, b) => b.total - a.total);
  const most = sorted.reduce((max, row) => Math.max(max, ...row.days.values()), 1);
  return (
    <Table
      label="Table of reads"
      rows={sorted}
      id={(r) => `${r.drawer} ${r.subject}`}
      find={(r) => `${r.drawer} ${r.subject}`}
      columns={[
        {
          head: "Drawer",
          className: "name text-sm",
          sort: (r) => r.drawer,
          cell: (r) => (
            <Link className="link link-hover" to={`/drawers/${r.drawer}`}>
              {r.drawer}
            </Link>
          ),
        },
        {
          head: "Reader",
          className: "name text-sm",
          sort: (r) => r.subject,
          cell: (r) => (
            <Link className="link link-hover" to={`/access/${r.subject}`}>
              {r.subject}
            </Link>
          ),
        },
        {
          head: `${between[0]} to ${between.at(-1)}, tallest ${most}`,
          className: "sm:w-1/2 sm:min-w-64",
          cell: (r) => <Bars of={r} between={between} most={most} />,
        },
        { head: "Reads", className: "text-right tabular-nums", sort: (r) => -r.total, cell: (r) => r.total },
      ]}
    />
  );
}

function Bars({ of: row, between, most }: { of: Row; between: string[]; most: number }) {
  return (
    <div
      className="border-base-content/40 flex h-10 items-end gap-px border-b"
      role="img"
      aria-label={`${row.total} reads on ${row.days.size} days`}
    >
      {between.map((day) => {
        const count = row.days.get(day) ?? 0;
        const height = `${count === 0 ? 0 : Math.max(8, (100 * count) / most)}%`;
        return <span key={day} title={`${day}: ${count}`} className="bg-secondary grow" style={{ height }} />;
      })}
    </div>
  );
}

function daysBetween(days: string[]): string[] {
  const list: string[] = [];
  for (let at = Date.parse(days[0] ?? ""); at <= Date.parse(days.at(-1) ?? ""); at += 86_400_000)
    list.push(new Date(at).toISOString().slice(0, 10));
  return list;
}
