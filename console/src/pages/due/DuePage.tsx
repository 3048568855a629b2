import { ChevronLeft, ChevronRight } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useDue } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Addresses } from "./Addresses";
import { Month } from "./Month";

// DuePage shows what has ended, what ends, and when: as a month and as a list.
export function DuePage() {
  const due = useDue(400 * 24);
  const [owner, setOwner] = useState("");
  const [month, setMonth] = useState(() => firstOf(new Date()));
  const all = due.data?.due ?? [];
  const owners = [...new Set(all.map((d) => d.owner).filter(Boolean))].sort();
  const list = all.filter((d) => !owner || d.owner === owner);
  const step = (by: number) => setMonth(new Date(Date.UTC(month.getUTCFullYear(), month.getUTCMonth() + by, 1)));
  return (
    <>
      <PageHead title="Due" aside={owners.length > 1 && (
        <select className="select" aria-label="Owner" value={owner} onChange={(e) => setOwner(e.target.value)}>
          <option value="">all owners</option>
          {owners.map((o) => <option key={o}>{o}</option>)}
        </select>
      )}>
        What is not served, what ends in the next 400 days, and whom to ask. Days are in UTC.
      </PageHead>
      {due.isPending && <Loading what="the calendar" />}
      {due.error && <ProblemBox error={due.error} />}
      {due.data && (
        <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
          <section aria-label="Month" className="grid content-start gap-2">
            <div className="flex items-center justify-between">
              <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="The month before" onClick={() => step(-1)}><ChevronLeft className="size-4" aria-hidden /></button>
              <h2 className="text-xl font-semibold">{month.toLocaleDateString("en", { month: "long", year: "numeric", timeZone: "UTC" })}</h2>
              <button type="button" className="btn btn-ghost btn-sm btn-square" aria-label="The month after" onClick={() => step(1)}><ChevronRight className="size-4" aria-hidden /></button>
            </div>
            <Month month={month} list={list} />
          </section>
          <section aria-label="List" className="grid content-start gap-2">
            {list.length === 0 ? <Empty title="Nothing is due">Nothing that you may list ends in the next 400 days.</Empty> : <List list={list} />}
          </section>
          <div className="lg:col-span-2"><Addresses /></div>
        </div>
      )}
    </>
  );
}

const firstOf = (d: Date) => new Date(Date.UTC(d.getUTCFullYear(), d.getUTCMonth(), 1));

function List({ list }: { list: Schemas["Due"][] }) {
  return (
    <Scroll label="Table of what is due">
      <table className="dense table">
        <thead><tr><th scope="col">Item</th><th scope="col">State</th><th scope="col">Ends</th></tr></thead>
        <tbody>
          {list.map((d) => (
            <tr key={d.reference}>
              <td className="min-w-52"><Link className="link link-hover name font-medium" to={`/drawers/${d.reference}`}>{d.reference}</Link>{d.owner && <span className="name muted block text-sm">{d.owner}</span>}</td>
              <td><Mark state={d.state} word={d.state === "due" ? "ends" : undefined} /></td>
              <td><When at={d.not_after} none="no end" /></td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
