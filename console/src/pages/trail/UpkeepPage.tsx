import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useArchives, useUpkeep } from "../../api/trail";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Table } from "../../parts/Table";

// UpkeepPage shows who follows the trail, and which parts of it are in archives.
export function UpkeepPage() {
  const upkeep = useUpkeep();
  const archives = useArchives();
  return (
    <>
      <PageHead above={{ to: "/trail", text: "the trail" }} title="Witnesses and outlets">
        Witnesses keep checkpoints, so that nobody can rewrite the past without being noticed. Outlets get every entry, each at its own
        pace. Archives hold what has left the database.
      </PageHead>
      {upkeep.isPending && <Loading what="the upkeep" />}
      {upkeep.error && <ProblemBox error={upkeep.error} />}
      {upkeep.data && (
        <>
          <p className="mb-6 flex flex-wrap items-baseline gap-x-4 gap-y-2">
            <span>
              The trail had <span className="tabular-nums">{upkeep.data.entries}</span> entries at{" "}
              <span className="tabular-nums">{new Date(upkeep.dataUpdatedAt).toLocaleTimeString()}</span>.
            </span>
            <button type="button" className="btn btn-sm" disabled={upkeep.isFetching} onClick={() => void upkeep.refetch()}>
              Refresh
            </button>
          </p>
          <Followers
            title="Witnesses"
            list={upkeep.data.witnesses}
            entries={upkeep.data.entries}
            none="No checkpoints are kept elsewhere: tansu serve --witness names a file on another disk, an address or a syslog server."
          />
          <Followers
            title="Outlets"
            list={upkeep.data.outlets}
            entries={upkeep.data.entries}
            none="Entries are not forwarded: tansu serve --outlet names a file, a syslog server or an https address."
          />
        </>
      )}
      <section aria-labelledby="archives">
        <h2 id="archives" className="mb-2 text-xl font-semibold">
          Archives
        </h2>
        {archives.error && <ProblemBox error={archives.error} />}
        {archives.data?.archives.length === 0 && (
          <Empty title="All entries are in the database">
            tansu serve --archive-after moves older ones into compressed files that still verify.
          </Empty>
        )}
        {archives.data && archives.data.archives.length > 0 && (
          <Table
            label="Table of archives"
            rows={archives.data.archives}
            id={(a) => a.name}
            find={(a) => a.name}
            columns={[
              {
                head: "File",
                className: "name text-sm",
                sort: (a) => a.first,
                cell: (a) => (
                  <Link className="link link-hover" to={`/trail?archive=${a.name}`}>
                    {a.name}
                  </Link>
                ),
              },
              { head: "First entry", className: "tabular-nums", cell: (a) => a.first },
              { head: "Last entry", className: "tabular-nums", cell: (a) => a.last },
            ]}
          />
        )}
      </section>
    </>
  );
}

function Followers({ title, list, entries, none }: { title: string; list: Schemas["Follower"][]; entries: number; none: string }) {
  return (
    <section aria-label={title} className="mb-8">
      <h2 className="mb-2 text-xl font-semibold">{title}</h2>
      {list.length === 0 && <p className="muted max-w-prose">{none}</p>}
      {list.length > 0 && (
        <Table
          label={`Table of ${title.toLowerCase()}`}
          rows={list}
          id={(f) => f.name}
          columns={[
            { head: "Name", className: "name text-sm", cell: (f) => f.name.replace(/^the witness /, "") },
            { head: "State", cell: (f) => <State of={f} /> },
            { head: "Up to entry", className: "tabular-nums", cell: (f) => f.position },
            { head: "Behind", className: "tabular-nums", cell: (f) => Math.max(0, entries - f.position) },
            {
              head: "Last received",
              cell: (f) => (f.at ? <When at={f.at} /> : <span className="muted">not since the service started</span>),
            },
          ]}
        />
      )}
    </section>
  );
}

function State({ of: f }: { of: Schemas["Follower"] }) {
  return (
    <>
      {f.failing ? (
        <>
          <Mark state="failed" word="not receiving" /> <When at={f.failing} lasting />
          <p className="text-sm">{f.problem}</p>
        </>
      ) : (
        <Mark state="usable" word="receiving" />
      )}
      {f.rejected ? (
        <p className="text-sm">It rejected {f.rejected} entries; they are in dead-letters.jsonl in the data directory.</p>
      ) : null}
    </>
  );
}
