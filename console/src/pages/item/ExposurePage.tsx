import { useState, type FormEvent } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useExposure } from "../../api/queries";
import { Copy } from "../../parts/Copy";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";

// ExposurePage works out what follows when a version got to where it should not be.
export function ExposurePage() {
  const { drawer = "", item = "" } = useParams();
  const [name = "", version = ""] = item.split("@");
  const report = useExposure(drawer, item);
  const [asked, setAsked] = useState<Schemas["NewExposure"]>();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const since = String(form.get("since") ?? "");
    const question = { reason: String(form.get("reason") ?? ""), ...(since && { since: new Date(`${since}Z`).toISOString() }) };
    setAsked(question);
    report.mutate(question);
  };
  const x = report.data;
  return (
    <>
      <PageHead above={{ to: `/drawers/${drawer}/${name}`, text: name }} title={<>Version <span className="name">{version}</span> got out</>}>
        Who read <span className="name">{drawer}/{item}</span>, who could have, and what to replace. Nothing is shown, and nothing is changed.
      </PageHead>
      <form className="panel mb-8 grid items-end gap-4 sm:grid-cols-[auto_1fr_auto]" onSubmit={submit}>
        <Field label="Exposed since (UTC)" name="since" type="datetime-local" />
        <Field label="Where it was seen" name="reason" placeholder="in a build log" maxLength={200} />
        <button type="submit" className="btn btn-primary" disabled={report.isPending}>Work it out</button>
      </form>
      {report.error && <ProblemBox error={report.error} />}
      {x && (
        <div className="grid grid-cols-1 gap-8">
          <section className="panel grid gap-2" aria-label="In short">
            <p><Mark state={x.serves ? "failed" : "usable"} word={x.serves ? "It is still served" : "It is not served any more"} />, and has counted as exposed <When at={x.since} lasting />. It was put in <When at={x.created_at} /> by <span className="name text-sm">{x.created_by}</span>.</p>
            <p>{x.readers.filter((r) => r.after > 0).length} read it since then, and {x.holders.length} could have.</p>
            <div className="flex flex-wrap gap-2">
              {x.marked ? <Mark state="open" word="The trail says that it is exposed" /> : asked && <button type="button" className="btn btn-outline btn-sm" disabled={report.isPending} onClick={() => report.mutate({ ...asked, since: x.since, mark: true })}>Say so in the trail</button>}
              <span className="flex items-center gap-1"><code className="name muted text-sm">tansu exposure {x.reference} --since {x.since} --markdown</code><Copy text={`tansu exposure ${x.reference} --since ${x.since} --markdown`} what="the command for a report as Markdown" /></span>
            </div>
          </section>
          <Replace list={x.replace} />
          <Readers list={x.readers} />
          <Holders list={x.holders} />
        </div>
      )}
    </>
  );
}

function Replace({ list }: { list: Schemas["Exposure"]["replace"] }) {
  return (
    <section aria-labelledby="replace">
      <h2 id="replace" className="mb-2 text-xl font-semibold">Replace, in this order</h2>
      {list.length === 0 && <p>Nothing: it is not served, and nothing else is known to depend on it.</p>}
      <ol className="grid gap-3">
        {list.map((r, i) => (
          <li key={`${r.reference} ${i}`} className="border-base-300 grid gap-1 border-l-2 pl-4">
            <span><span className="muted mr-2 tabular-nums">{i + 1}</span><Link className="link name font-medium" to={`/drawers/${r.reference.replace(/@.*/, "")}`}>{r.reference}</Link></span>
            <span>{r.why}</span>
            <code className="name muted text-sm">{r.command}</code>
          </li>
        ))}
      </ol>
    </section>
  );
}

function Readers({ list }: { list: Schemas["Exposure"]["readers"] }) {
  return (
    <section aria-labelledby="did">
      <h2 id="did" className="mb-2 text-xl font-semibold">Who read it</h2>
      {list.length === 0 ? <p>Nobody.</p> : (
        <Scroll label="Table of who read it">
          <table className="dense table">
            <thead><tr><th scope="col">Who</th><th scope="col" className="text-right">Since then</th><th scope="col" className="text-right">In all</th><th scope="col">Last</th><th scope="col">From</th></tr></thead>
            <tbody>{list.map((r) => (
              <tr key={r.subject}><td className="name text-sm">{r.subject}</td><td className="text-right tabular-nums">{r.after}</td><td className="text-right tabular-nums">{r.count}</td><td><When at={r.last} /></td><td className="name text-sm">{r.addrs.join(", ")}</td></tr>
            ))}</tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}

function Holders({ list }: { list: Schemas["Exposure"]["holders"] }) {
  return (
    <section aria-labelledby="could">
      <h2 id="could" className="mb-2 text-xl font-semibold">Who could have, since then</h2>
      {list.length === 0 ? <p>Nobody.</p> : (
        <Scroll label="Table of who could have">
          <table className="dense table">
            <thead><tr><th scope="col">Who</th><th scope="col">Did</th><th scope="col">Can now</th><th scope="col">By</th></tr></thead>
            <tbody>{list.map((h) => (
              <tr key={h.subject}><td className="name text-sm">{h.subject}</td><td>{h.did ? <Mark state="failed" word="yes" /> : "no"}</td><td>{h.still ? "yes" : "no"}</td><td className="name text-sm">{h.grants.join(", ")}</td></tr>
            ))}</tbody>
          </table>
        </Scroll>
      )}
      <p className="muted mt-2 text-sm">Grants that have ended since count. Teams count with the members that they have now.</p>
    </section>
  );
}
