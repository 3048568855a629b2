import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useActivity, useUnusual } from "../../api/trail";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Scroll } from "../../parts/Scroll";
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
    <Scroll label="Table of what stands out">
      <table className="dense table">
        <thead>
          <tr>
            <th scope="col">What</th>
            <th scope="col">When</th>
            <th scope="col">Who</th>
            <th scope="col">On</th>
            <th scope="col">Detail</th>
            <th scope="col">Entry</th>
          </tr>
        </thead>
        <tbody>
          {list.slice(0, 200).map((u, i) => {
            const [mark = "open", word = u.kind] = kinds[u.kind] ?? [];
            return (
              <tr key={`${u.kind} ${u.subject} ${u.target} ${i}`}>
                <td>
                  <Mark state={mark} word={word} />
                </td>
                <td>
                  <When at={u.at} />
                </td>
                <td className="name text-sm">
                  {u.subject && (
                    <Link className="link link-hover" to={`/access/${u.subject}`}>
                      {u.subject}
                    </Link>
                  )}
                </td>
                <td className="name text-sm">
                  {u.target && (
                    <Link className="link link-hover" to={`/drawers/${u.target}`}>
                      {u.target}
                    </Link>
                  )}
                </td>
                <td className="text-sm">{u.detail}</td>
                <td>
                  {u.seq ? (
                    <Link className="link tabular-nums" to={`/trail/${u.seq}`}>
                      {u.seq}
                    </Link>
                  ) : null}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Scroll>
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
  const most = Math.max(...[...rows.values()].flatMap((r) => [...r.days.values()]));
  return (
    <Scroll label="Table of reads">
      <table className="dense table">
        <thead>
          <tr>
            <th scope="col">Drawer</th>
            <th scope="col">Reader</th>
            <th scope="col">
              From {between[0]} to {between.at(-1)}, the tallest bar is {most}
            </th>
            <th scope="col" className="text-right">
              Reads
            </th>
          </tr>
        </thead>
        <tbody>
          {[...rows.values()]
            .sort((a, b) => b.total - a.total)
            .map((r) => (
              <tr key={`${r.drawer} ${r.subject}`}>
                <td className="name text-sm">
                  <Link className="link link-hover" to={`/drawers/${r.drawer}`}>
                    {r.drawer}
                  </Link>
                </td>
                <td className="name text-sm">
                  <Link className="link link-hover" to={`/access/${r.subject}`}>
                    {r.subject}
                  </Link>
                </td>
                <td className="w-1/2 min-w-64">
                  <div
                    className="border-base-content/40 flex h-10 items-end gap-px border-b"
                    role="img"
                    aria-label={`${r.total} reads on ${r.days.size} days`}
                  >
                    {between.map((day) => {
                      const count = r.days.get(day) ?? 0;
                      return (
                        <span
                          key={day}
                          title={`${day}: ${count}`}
                          className="bg-secondary grow"
                          style={{ height: `${count === 0 ? 0 : Math.max(8, (100 * count) / most)}%` }}
                        />
                      );
                    })}
                  </div>
                </td>
                <td className="text-right tabular-nums">{r.total}</td>
              </tr>
            ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function daysBetween(days: string[]): string[] {
  const list: string[] = [];
  for (let at = Date.parse(days[0] ?? ""); at <= Date.parse(days.at(-1) ?? ""); at += 86_400_000)
    list.push(new Date(at).toISOString().slice(0, 10));
  return list;
}
