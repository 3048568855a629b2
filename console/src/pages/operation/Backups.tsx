import type { Schemas } from "../../api/client";
import { useBackUp, useBackups, useRehearse } from "../../api/operation";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Table } from "../../parts/Table";

// Backups shows what brings the chest back, and whether that was tried.
export function Backups() {
  const backups = useBackups();
  const backUp = useBackUp();
  const rehearse = useRehearse();
  const busy = backUp.isPending || rehearse.isPending;
  const o = backups.data;
  return (
    <section aria-labelledby="backups" className="grid min-w-0 grid-cols-1 gap-3">
      <div className="flex flex-wrap items-center justify-between gap-2">
        <h2 id="backups" className="text-xl font-semibold">
          Backups
        </h2>
        {o?.to && (
          <div className="flex flex-wrap gap-2">
            <button
              type="button"
              className="btn btn-outline btn-sm"
              disabled={busy || o.backups.length === 0}
              onClick={() => rehearse.mutate(0)}
            >
              {rehearse.isPending ? "Rehearsing …" : "Rehearse restoring"}
            </button>
            <button type="button" className="btn btn-primary btn-sm" disabled={busy} onClick={() => backUp.mutate(false)}>
              {backUp.isPending ? "Backing up …" : "Back up now"}
            </button>
          </div>
        )}
      </div>
      {backups.isPending && <Loading what="the backups" />}
      {backups.error && <ProblemBox error={backups.error} />}
      {(backUp.error ?? rehearse.error) && <ProblemBox error={backUp.error ?? rehearse.error} />}
      {o && !o.to && (
        <Empty title="No backups are made">
          Start the service with <code className="name break-words">tansu serve --backup-to DIR --backup-recipient FILE.pub</code>.
        </Empty>
      )}
      {o?.to && (
        <>
          <p>
            To <span className="name break-all">{o.to}</span>, {often(o.every)}, a full one {often(o.full_every)}.{" "}
            {o.next && (
              <>
                The next is due <When at={o.next} />.
              </>
            )}{" "}
            Restoring is rehearsed {often(o.rehearse)}.
          </p>
          <Rehearsals list={o.rehearsals} />
          {o.backups.length === 0 ? (
            <Empty title="No backup was made yet">The first backup is a full one.</Empty>
          ) : (
            <List list={o.backups} />
          )}
        </>
      )}
    </section>
  );
}

function Rehearsals({ list }: { list: Schemas["Rehearsal"][] }) {
  const last = list[0];
  if (!last)
    return (
      <p>
        <Mark state="waiting" word="never rehearsed" />: nobody has tested yet that a backup can be restored.
      </p>
    );
  const good = last.problems.length === 0;
  return (
    <div className="panel">
      <p>
        <Mark state={good ? "usable" : "failed"} word={good ? "restoring works" : "restoring found faults"} />: backup {last.number} was
        restored <When at={last.at} />, in {last.seconds.toFixed(1)} s. <span className="tabular-nums">{last.entries}</span> entries
        verified, <span className="tabular-nums">{last.values}</span> values opened; entries after it:{" "}
        <span className="tabular-nums">{last.lost}</span>.
      </p>
      {last.problems.map((p) => (
        <p key={p} className="name text-sm">
          {p}
        </p>
      ))}
    </div>
  );
}

// often says a span such as "7d" in words.
function often(span: string): string {
  const [, count = "", unit = ""] = /^(\d+)([hd])$/.exec(span) ?? [];
  const word = unit === "h" ? "hour" : "day";
  return !count ? "when somebody asks" : count === "1" ? `every ${word}` : `every ${count} ${word}s`;
}

const size = (bytes: number) => (bytes >= 1 << 20 ? `${(bytes / (1 << 20)).toFixed(1)} MiB` : `${Math.ceil(bytes / 1024)} KiB`);

function List({ list }: { list: Schemas["Backup"][] }) {
  return (
    <Table
      label="Table of backups"
      rows={list}
      id={(b) => `${b.number} ${b.made}`}
      columns={[
        { head: "No", className: "tabular-nums", cell: (b) => b.number },
        { head: "Created", cell: (b) => <When at={b.made} /> },
        { head: "Kind", cell: (b) => (b.problem ? <Mark state="failed" /> : b.adds_to ? "incremental" : "full") },
        { head: "Up to entry", className: "tabular-nums", cell: (b) => (b.problem ? "" : b.last) },
        { head: "Size", className: "tabular-nums", cell: (b) => (b.problem ? "" : size(b.size)) },
        { head: "Name", className: "name text-sm", cell: (b) => b.problem ?? b.name },
      ]}
    />
  );
}
