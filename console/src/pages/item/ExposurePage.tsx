import { useState, type FormEvent } from "react";
import { useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMayThere } from "../../api/may";
import { exposureReport, useExposure } from "../../api/trail";
import { save } from "../../parts/download";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { Closed } from "../../parts/Only";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { ReplaceStep } from "./ReplaceStep";

// ExposurePage works out what follows when a version was seen where it should not be, and leads through the steps.
export function ExposurePage() {
  const { drawer = "", item = "" } = useParams();
  const [name = "", version = ""] = item.split("@");
  const there = useMayThere(`${drawer}/${name}`);
  const report = useExposure(drawer, item);
  const [asked, setAsked] = useState<Schemas["NewExposure"]>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const since = String(form.get("since") ?? "");
    const question = { reason: String(form.get("reason") ?? ""), ...(since && { since: new Date(since).toISOString() }) };
    setAsked(question);
    report.mutate(question);
  };
  const x = report.data;
  const again = x && asked && { ...asked, since: x.since };
  return (
    <>
      <PageHead
        above={{ to: `/drawers/${drawer}/${name}`, text: name }}
        title={
          <>
            Report exposure of{" "}
            <span className="name">
              {name}@{version}
            </span>
          </>
        }
      >
        Who read it, who could have, and what to replace, in order. No value is shown, and nothing changes until you press a step.
      </PageHead>
      {there.error && <ProblemBox error={there.error} />}
      {there.known && !there.may("read_trail") && <Closed what="who read this item" needs="auditor" scope={`${drawer}/${name}`} />}
      {there.may("read_trail") && (
        <form className="panel mb-8 grid items-start gap-4 sm:grid-cols-[auto_1fr_auto] print:hidden" onSubmit={submit}>
          <Field label="Exposed since" name="since" type="datetime-local" hint="Leave empty for since it was written." />
          <Field label="Where it was seen" name="reason" placeholder="in a build log" maxLength={200} />
          <button type="submit" className="btn btn-primary sm:mt-6" disabled={report.isPending}>
            Show impact
          </button>
        </form>
      )}
      {report.error && <ProblemBox error={report.error} />}
      {x && (
        <div className="grid grid-cols-1 gap-8">
          <section className="panel grid gap-2" aria-label="Summary">
            <p>
              <Mark state={x.serves ? "failed" : "usable"} word={x.serves ? "It is still served" : "It is not served any more"} />, and has
              been exposed <When at={x.since} lasting />. It was written <When at={x.created_at} /> by{" "}
              <span className="name text-sm">{x.created_by}</span>.
            </p>
            <p>
              {x.readers.filter((r) => r.after > 0).length} read it since then, and {x.holders.length} could have.
            </p>
            <div className="flex flex-wrap gap-2 print:hidden">
              {x.marked ? (
                <Mark state="open" word="Recorded in the trail" />
              ) : (
                again && (
                  <button
                    type="button"
                    className="btn btn-outline btn-sm"
                    disabled={report.isPending}
                    onClick={() => report.mutate({ ...again, mark: true })}
                  >
                    Record it in the trail
                  </button>
                )
              )}
              {again && (
                <button
                  type="button"
                  className="btn btn-outline btn-sm"
                  onClick={() =>
                    void exposureReport(drawer, item, again).then((text) => save(`exposure-${name}-${version}.md`, text, "text/markdown"))
                  }
                >
                  Save the report as a file
                </button>
              )}
              {again && (
                <button type="button" className="btn btn-ghost btn-sm" disabled={report.isPending} onClick={() => report.mutate(again)}>
                  Refresh
                </button>
              )}
            </div>
          </section>
          <section aria-labelledby="replace">
            <h2 id="replace" className="mb-2 text-xl font-semibold">
              What to do, in this order
            </h2>
            {x.replace.length === 0 && (
              <p>
                <Mark state="usable" word="Nothing" />: it is not served, and nothing else is known to depend on it.
              </p>
            )}
            {x.uncompared && (
              <p role="alert" className="mb-3">
                <Mark state="closed" word="Not all was looked at" />: {x.uncompared}.
              </p>
            )}
            <ol className="grid gap-3">
              {x.replace.map((r, i) => (
                <ReplaceStep key={`${r.reference} ${i}`} of={r} number={i + 1} />
              ))}
            </ol>
          </section>
          <section aria-labelledby="did">
            <h2 id="did" className="mb-2 text-xl font-semibold">
              {x.used ? "Who used it" : "Who read it"}
            </h2>
            {x.readers.length === 0 ? <p>Nobody.</p> : <Readers list={x.readers} />}
          </section>
          <section aria-labelledby="could">
            <h2 id="could" className="mb-2 text-xl font-semibold">
              {x.used ? "Who could have used it since then" : "Who could have read it since then"}
            </h2>
            {x.holders.length === 0 ? <p>Nobody.</p> : <Holders list={x.holders} />}
            <p className="muted mt-2 text-sm">Includes grants that have ended since. Teams are shown with their current members.</p>
          </section>
        </div>
      )}
    </>
  );
}

function Readers({ list }: { list: Schemas["Exposure"]["readers"] }) {
  return (
    <Table
      label="Table of who read it"
      rows={list}
      id={(r) => r.subject}
      find={(r) => `${r.subject} ${r.addrs.join(" ")}`}
      columns={[
        { head: "Who", className: "name text-sm", sort: (r) => r.subject, cell: (r) => r.subject },
        { head: "Since then", className: "tabular-nums", sort: (r) => -r.after, cell: (r) => r.after },
        { head: "In all", className: "tabular-nums", sort: (r) => -r.count, cell: (r) => r.count },
        { head: "Last", sort: (r) => -new Date(r.last).getTime(), cell: (r) => <When at={r.last} /> },
        { head: "From", className: "name text-sm", cell: (r) => r.addrs.join(", ") },
      ]}
    />
  );
}

function Holders({ list }: { list: Schemas["Exposure"]["holders"] }) {
  return (
    <Table
      label="Table of who could have read it"
      rows={list}
      id={(h) => h.subject}
      find={(h) => `${h.subject} ${h.grants.join(" ")}`}
      columns={[
        { head: "Who", className: "name text-sm", sort: (h) => h.subject, cell: (h) => h.subject },
        { head: "Did", cell: (h) => (h.did ? <Mark state="failed" word="yes" /> : "no") },
        { head: "Can now", cell: (h) => (h.still ? "yes" : "no") },
        { head: "By grant", className: "name text-sm", cell: (h) => h.grants.join(", ") },
      ]}
    />
  );
}
