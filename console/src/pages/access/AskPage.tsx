import { useState, type FormEvent } from "react";
import { useMay } from "../../api/may";
import { useVerdict } from "../../api/rights";
import { Choice, Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { ways } from "../../parts/ways";
import { Considered } from "./Considered";
import { GiveDialog } from "./GiveDialog";
import { Tabs } from "./Tabs";

const actions = [
  "read_value",
  "encrypt",
  "decrypt",
  "sign",
  "verify",
  "issue",
  "list",
  "see_metadata",
  "write_version",
  "change_item",
  "retire",
  "shred",
  "change_rules",
  "grant",
  "register",
  "read_trail",
  "operate",
];

// AskPage answers whether somebody may do something, under given circumstances, and why. Asking is in the trail.
export function AskPage() {
  const may = useMay();
  const ask = useVerdict();
  const [asked, setAsked] = useState<{ subject: string; action: string; target: string }>();
  const [giving, setGiving] = useState(false);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const question = { subject: text("subject") || may.subject, action: text("action"), target: text("target") };
    setAsked(question);
    ask.mutate({
      ...question,
      ...(text("at") && { at: new Date(text("at")).toISOString() }),
      ...(text("addr") && { addr: text("addr") }),
      ...(text("via") && { via: text("via") }),
      ...(text("reason") && { reason: text("reason") }),
    });
  };
  const v = ask.data;
  return (
    <>
      <Tabs />
      <PageHead title="Check access">
        Whether somebody may do something, and why. Nothing is read or changed by asking; the question is in the trail.
      </PageHead>
      <form className="panel mb-8 grid items-start gap-4 sm:grid-cols-3" onSubmit={submit}>
        {may.seesIdentities ? (
          <SubjectField label="Who" name="subject" required placeholder="app:ticket-api" />
        ) : (
          <Choice label="Who" name="subject" options={[may.subject, ...may.ownedApps].map((s) => ({ value: s, text: s }))} />
        )}
        <Choice label="Action" name="action" options={actions.map((a) => ({ value: a, text: a.replaceAll("_", " ") }))} />
        <Field
          label="On"
          name="target"
          className="name"
          placeholder="ticketing-prod/db-password"
          hint="A drawer, an item, or empty for the chest."
        />
        <details className="sm:col-span-3">
          <summary className="cursor-pointer font-semibold">Circumstances to assume</summary>
          <div className="mt-3 grid gap-4 sm:grid-cols-4">
            <Field label="At" name="at" type="datetime-local" hint="Empty for now." />
            <Field label="From address" name="addr" className="name" placeholder="10.2.3.4" />
            <Choice
              label="Signed in by"
              name="via"
              options={[{ value: "", text: "not said" }, ...Object.entries(ways).map(([value, text]) => ({ value, text }))]}
            />
            <Field label="Stated reason" name="reason" />
          </div>
        </details>
        <button type="submit" className="btn btn-primary justify-self-start" disabled={ask.isPending}>
          Ask
        </button>
      </form>
      {ask.error && <ProblemBox error={ask.error} />}
      {v && asked && (
        <section aria-label="Answer" className="grid gap-4" role="status">
          <p className="text-lg">
            <Mark state={v.allowed ? "allowed" : "refused"} word={v.allowed ? "Yes" : "No"} />:{" "}
            <span className="name">{asked.subject}</span> {v.allowed ? "may" : "may not"} {asked.action.replaceAll("_", " ")}{" "}
            {asked.target ? <span className="name">{asked.target}</span> : "the chest"}
            {v.grant && (
              <>
                {" "}
                by grant <span className="name">{v.grant}</span>
              </>
            )}
            {!v.allowed && v.reason && <>: {v.reason.replaceAll("_", " ")}</>}.{v.version ? ` Version ${v.version} would be served.` : ""}
            {v.not_served && ` Nothing would be served: ${v.not_served}.`}
          </p>
          {v.remedy && (
            <p>
              The smallest grant that would allow it: <b>{v.remedy.role}</b> on <span className="name">{v.remedy.scope}</span>.{" "}
              {may.somewhere("grant") && asked.subject !== may.subject && (
                <button type="button" className="btn btn-outline btn-sm" onClick={() => setGiving(true)}>
                  Give it …
                </button>
              )}
            </p>
          )}
          {v.considered.length > 0 && <Considered list={v.considered} />}
          {giving && v.remedy && (
            <GiveDialog subject={v.remedy.subject} role={v.remedy.role} scope={v.remedy.scope} days="30" onClose={() => setGiving(false)} />
          )}
        </section>
      )}
    </>
  );
}
