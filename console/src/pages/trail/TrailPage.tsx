import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useTrail, type TrailFilter } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { Filters } from "./Filters";

const names = ["subject", "target", "action", "outcome", "cursor"] as const;

// TrailPage shows the audit trail; its filter is the page's address, so that it can be passed on.
export function TrailPage() {
  const [search, setSearch] = useSearchParams();
  const filter: TrailFilter = {};
  for (const name of names) {
    const value = search.get(name);
    if (value) filter[name] = value;
  }
  const trail = useTrail(filter);
  const entries = trail.data?.entries ?? [];
  const older = () => setSearch({ ...filter, cursor: trail.data?.next_cursor ?? "" });
  return (
    <>
      <PageHead title="The trail">Every read, list, change, sign-in and refusal, newest first. An answer leaves the chest only after its entry is on disk.</PageHead>
      <Filters key={search.toString()} filter={filter} onChange={(f) => setSearch(f)} />
      {trail.isPending && <Loading what="the trail" />}
      {trail.error && <ProblemBox error={trail.error} />}
      {trail.data && entries.length === 0 && <Empty title="No entry">Nothing that this selects and you may read.</Empty>}
      {entries.length > 0 && <Entries entries={entries} />}
      <div className="mt-4 flex justify-between">
        {filter.cursor ? <Link className="btn btn-ghost" to="/trail">To the newest</Link> : <span />}
        {trail.data?.next_cursor && <button type="button" className="btn btn-outline" onClick={older}>Older entries</button>}
      </div>
    </>
  );
}

function Entries({ entries }: { entries: Schemas["Entry"][] }) {
  return (
    <Scroll label="Entries">
      <table className="dense table">
        <thead>
          <tr><th scope="col">No</th><th scope="col">When</th><th scope="col">Who</th><th scope="col">Action</th><th scope="col">Target</th><th scope="col">Outcome</th><th scope="col">From</th><th scope="col">Detail</th></tr>
        </thead>
        <tbody>
          {entries.map((e) => (
            <tr key={e.seq} className={e.outcome === "refused" ? "bg-base-200" : ""}>
              <td className="muted text-sm whitespace-nowrap tabular-nums">{e.seq}</td>
              <td><When at={e.at} /></td>
              <td><Subject of={e.subject} /></td>
              <td className="whitespace-nowrap">{e.action.replaceAll("_", " ")}</td>
              <td className="name max-w-72 text-sm">{e.target || <span className="muted">chest</span>}{e.version ? `@${e.version}` : ""}</td>
              <td><Mark state={e.outcome} /></td>
              <td className="name text-sm">{e.addr}</td>
              <td className="max-w-72 text-sm">{e.receipt ? <>{e.reason.replaceAll("_", " ")}, <Link className="link name" to={`/receipts/${e.receipt}`}>{e.receipt}</Link></> : e.reason.replaceAll("_", " ") || e.detail}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function Subject({ of }: { of: string }) {
  if (!of.includes(":")) return <span className="muted">{of}</span>;
  return <Link className="link link-hover name text-sm" to={`/access/${of}`}>{of}</Link>;
}
