import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useTrail, type TrailFilter } from "../../api/trail";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { Filters } from "./Filters";
import { SaveTrail } from "./SaveTrail";

const names = [
  "q",
  "subject",
  "target",
  "action",
  "outcome",
  "grant",
  "addr",
  "request_id",
  "since",
  "until",
  "archive",
  "cursor",
] as const;

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
  const [live, setLive] = useState(false);
  const whole = useMay().everything("read_trail");
  const older = () => setSearch({ ...filter, cursor: trail.data?.next_cursor ?? "" });
  return (
    <>
      <PageHead
        title="Audit trail"
        aside={
          <>
            <SaveTrail filter={filter} />
            <button type="button" className="btn btn-outline" aria-pressed={live} onClick={() => setLive(!live)}>
              {live ? "Stop the live view" : "Live view"}
            </button>
            <Link className="btn btn-outline" to="/trail/reads">
              Reads and anomalies
            </Link>
            {whole && (
              <Link className="btn btn-outline" to="/trail/verify">
                Verify …
              </Link>
            )}
            {whole && (
              <Link className="btn btn-outline" to="/trail/upkeep">
                Witnesses and outlets
              </Link>
            )}
          </>
        }
      >
        Every read, list, change, sign-in and refusal, newest first. An answer leaves the chest only after its entry is on disk.
      </PageHead>
      <Filters key={search.toString()} filter={filter} onChange={(f) => setSearch(f)} />
      {filter.archive && (
        <p className="mb-4">
          In the archive <span className="name text-sm">{filter.archive}</span>, oldest first.{" "}
          <Link className="link" to="/trail">
            Back to the live trail
          </Link>
        </p>
      )}
      {live && <Live query={filter.q ?? ""} />}
      {trail.isPending && <Loading what="the trail" />}
      {trail.error && <ProblemBox error={trail.error} />}
      {trail.data && entries.length === 0 && <Empty title="No entries">None that you may read matches these filters.</Empty>}
      {entries.length > 0 && <Entries entries={entries} />}
      <div className="mt-4 flex justify-between">
        {filter.cursor ? (
          <Link className="btn btn-ghost" to={filter.archive ? `/trail?archive=${filter.archive}` : "/trail"}>
            {filter.archive ? "To the first" : "To the newest"}
          </Link>
        ) : (
          <span />
        )}
        {trail.data?.next_cursor && (
          <button type="button" className="btn btn-outline" onClick={older}>
            {filter.archive ? "Newer entries" : "Older entries"}
          </button>
        )}
      </div>
    </>
  );
}

// mostLive is how many entries the live view keeps.
const mostLive = 50;

// Live shows entries as they are recorded, newest first, above those that were there.
function Live({ query }: { query: string }) {
  const [entries, setEntries] = useState<Schemas["Entry"][]>([]);
  const [lost, setLost] = useState(false);
  const me = useMay().subject;
  useEffect(() => {
    const source = new EventSource(`/api/trail/watch?q=${encodeURIComponent(query)}&page_of=${encodeURIComponent(me)}`);
    source.onopen = () => setLost(false);
    source.onerror = () => setLost(true);
    source.onmessage = (event) => setEntries((list) => [JSON.parse(String(event.data)) as Schemas["Entry"], ...list].slice(0, mostLive));
    return () => source.close();
  }, [query, me]);
  return (
    <section aria-label="Live view" className="border-primary mb-8 border-l-4 pl-4">
      <p role="status" className="mb-2">
        <Mark state={lost ? "failed" : "usable"} word={lost ? "The connection was lost; trying again" : "Live"} />
        {query && (
          <>
            : <span className="name text-sm">{query}</span>
          </>
        )}
      </p>
      {entries.length === 0 ? <p className="muted">No new entries yet.</p> : <Entries entries={entries} label="Live entries" />}
    </section>
  );
}

function Entries({ entries, label = "Entries" }: { entries: Schemas["Entry"][]; label?: string }) {
  return (
    <Table
      label={label}
      rows={entries}
      id={(e) => String(e.seq)}
      all
      rowClass={(e) => (e.outcome === "refused" ? "bg-base-200" : "")}
      columns={[
        {
          head: "No",
          className: "text-sm whitespace-nowrap tabular-nums",
          cell: (e) => (
            <Link className="link link-hover" to={`/trail/${e.seq}`} aria-label={`Entry ${e.seq}`}>
              {e.seq}
            </Link>
          ),
        },
        { head: "When", cell: (e) => <When at={e.at} /> },
        { head: "Who", cell: (e) => <Subject of={e.subject} /> },
        { head: "Action", className: "whitespace-nowrap", cell: (e) => e.action.replaceAll("_", " ") },
        {
          head: "Target",
          className: "name max-w-72 text-sm",
          cell: (e) => (
            <>
              {e.target || <span className="muted whitespace-nowrap">chest</span>}
              {e.version ? `@${e.version}` : ""}
            </>
          ),
        },
        { head: "Outcome", cell: (e) => <Mark state={e.outcome} /> },
        { head: "From", className: "name text-sm whitespace-nowrap", cell: (e) => e.addr },
        {
          head: "Detail",
          className: "max-w-72 text-sm",
          cell: (e) =>
            e.receipt ? (
              <>
                {e.reason.replaceAll("_", " ")},{" "}
                <Link className="link name" to={`/receipts/${e.receipt}`}>
                  {e.receipt}
                </Link>
              </>
            ) : (
              e.reason.replaceAll("_", " ") || e.detail
            ),
        },
      ]}
    />
  );
}

function Subject({ of }: { of: string }) {
  if (!of.includes(":")) return <span className="muted">{of}</span>;
  return (
    <Link className="link link-hover name text-sm" to={`/access/${of}`}>
      {of}
    </Link>
  );
}
