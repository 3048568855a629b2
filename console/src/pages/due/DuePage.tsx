import { ChevronLeft, ChevronRight } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useAccessEnds } from "../../api/ends";
import { useMay } from "../../api/may";
import { useDue } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { AccessEnds } from "./AccessEnds";
import { Addresses } from "./Addresses";
import { Month, type Day } from "./Month";

// DuePage shows what has ended, what ends, and when: as a month and as a list.
export function DuePage() {
  const lists = useMay().somewhere("list");
  const due = useDue(400 * 24, lists);
  const ends = useAccessEnds(400 * 24);
  const [owner, setOwner] = useState("");
  const [month, setMonth] = useState(() => firstOf(new Date()));
  const all = due.data?.due ?? [];
  const access = (ends.data?.ends ?? []).filter((e) => !owner || e.owner === owner || e.subject === owner);
  const owners = [...new Set([...all, ...(ends.data?.ends ?? [])].flatMap((d) => d.owner || []))].sort();
  const list = all.filter((d) => !owner || d.owner === owner);
  const days: Day[] = [...list.flatMap(itemDay), ...access.map(accessDay)];
  const step = (by: number) => setMonth(new Date(Date.UTC(month.getUTCFullYear(), month.getUTCMonth() + by, 1)));
  return (
    <>
      <PageHead
        title="Due"
        aside={
          owners.length > 1 && (
            <select className="select" aria-label="Owner" value={owner} onChange={(e) => setOwner(e.target.value)}>
              <option value="">all owners</option>
              {owners.map((o) => (
                <option key={o}>{o}</option>
              ))}
            </select>
          )
        }
      >
        Values that have ended or end in the next 400 days, access and credentials that end, and who answers for them. Days are in UTC.
      </PageHead>
      {lists && due.isPending && <Loading what="the calendar" />}
      {due.error && <ProblemBox error={due.error} />}
      {(due.data ?? !lists) && (
        <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
          <section aria-label="Month" className="grid content-start gap-2">
            <div className="flex items-center justify-between">
              <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="Previous month" onClick={() => step(-1)}>
                <ChevronLeft className="size-4" aria-hidden />
              </button>
              <h2 className="text-xl font-semibold">
                {month.toLocaleDateString("en", { month: "long", year: "numeric", timeZone: "UTC" })}
              </h2>
              <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="Next month" onClick={() => step(1)}>
                <ChevronRight className="size-4" aria-hidden />
              </button>
            </div>
            <Month month={month} list={days} />
          </section>
          <section aria-label="List" className="grid content-start gap-2">
            {list.length === 0 ? (
              <Empty title="No value is due">Nothing that you may list ends in the next 400 days.</Empty>
            ) : (
              <List list={list} />
            )}
          </section>
          <div className="lg:col-span-2">
            {ends.error && <ProblemBox error={ends.error} />}
            {access.length > 0 && <AccessEnds list={access} />}
          </div>
          <div className="lg:col-span-2">
            <Addresses />
          </div>
        </div>
      )}
    </>
  );
}

const firstOf = (d: Date) => new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth(), 1));

const itemDay = (d: Schemas["Due"]): Day[] =>
  d.not_after
    ? [
        {
          id: d.reference,
          at: d.not_after,
          label: d.reference.split("/")[1] ?? "",
          title: d.reference,
          to: `/drawers/${d.reference}`,
          over: d.state !== "due",
        },
      ]
    : [];

const accessDay = (e: Schemas["AccessEnd"]): Day => ({
  id: e.id,
  at: e.not_after,
  label: e.subject?.split(":")[1] ?? e.about,
  title: `${e.subject ?? ""} ${e.about}`.trim(),
  to: e.subject ? `/access/${e.subject}` : "/operation",
  over: new Date(e.not_after).getTime() < Date.now(),
});

function List({ list }: { list: Schemas["Due"][] }) {
  return (
    <Table
      label="Table of what is due"
      rows={list}
      id={(d) => d.reference}
      find={(d) => `${d.reference} ${d.owner} ${d.state}`}
      columns={[
        {
          head: "Item",
          className: "sm:min-w-52",
          sort: (d) => d.reference,
          cell: (d) => (
            <>
              <Link className="link link-hover name font-medium" to={`/drawers/${d.reference}`}>
                {d.reference}
              </Link>
              {d.owner && <span className="name muted block text-sm">{d.owner}</span>}
            </>
          ),
        },
        { head: "State", sort: (d) => d.state, cell: (d) => <Mark state={d.state} word={d.state === "due" ? "ends" : undefined} /> },
        {
          head: "Ends",
          sort: (d) => (d.not_after ? new Date(d.not_after).getTime() : Infinity),
          cell: (d) => <When at={d.not_after} none="no end" />,
        },
      ]}
    />
  );
}
