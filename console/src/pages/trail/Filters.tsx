import { useState, type FormEvent } from "react";
import type { TrailFilter } from "../../api/trail";
import { Choice, Field } from "../../parts/Field";
import { localTime } from "../../parts/localTime";
import { SubjectField } from "../../parts/SubjectField";

type FiltersProps = { filter: TrailFilter; onChange: (filter: Record<string, string>) => void };

const any = { value: "", text: "any" };
const actions = [
  "read_value",
  "sign",
  "verify",
  "encrypt",
  "decrypt",
  "issue",
  "issue_authority",
  "revoke_certificate",
  "write_version",
  "list",
  "list_drawers",
  "see_metadata",
  "grant",
  "register",
  "change_rules",
  "change_item",
  "sign_in",
  "issue_token",
  "read_trail",
  "unlock",
  "lock",
];
const outcomes = ["allowed", "refused", "failed"];
const options = (values: string[]) => [any, ...values.map((v) => ({ value: v, text: v.replaceAll("_", " ") }))];
const periods = [
  any,
  { value: "1", text: "the last day" },
  { value: "7", text: "the last 7 days" },
  { value: "30", text: "the last 30 days" },
  { value: "dates", text: "between two dates …" },
];

// Filters choose entries of the trail. Times are typed as on the viewer's clock, and asked for in UTC.
export function Filters({ filter, onChange }: FiltersProps) {
  const [period, setPeriod] = useState(filter.since || filter.until ? "dates" : "");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const chosen: Record<string, string> = {};
    for (const [name, value] of form) if (typeof value === "string" && value.trim() && name !== "period") chosen[name] = value.trim();
    for (const name of ["since", "until"]) if (chosen[name]) chosen[name] = new Date(chosen[name]).toISOString();
    if (Number(period)) chosen.since = new Date(Date.now() - Number(period) * 86_400_000).toISOString().replace(/:\d\d\.\d+Z/, ":00Z");
    onChange(chosen);
  };
  const more = Boolean(filter.grant || filter.addr || filter.request_id || filter.q);
  return (
    <form
      role="search"
      aria-label="Filter the trail"
      className="panel mb-6 grid items-end gap-4 sm:grid-cols-2 lg:grid-cols-6 print:hidden"
      onSubmit={submit}
    >
      <SubjectField label="Who" name="subject" defaultValue={filter.subject} placeholder="app:ticket-api" />
      <Field label="Drawer, item or subject" name="target" defaultValue={filter.target} placeholder="ticketing-prod" className="name" />
      <Choice label="Action" name="action" defaultValue={filter.action ?? ""} options={options(actions)} />
      <Choice label="Outcome" name="outcome" defaultValue={filter.outcome ?? ""} options={options(outcomes)} />
      <Choice label="When" name="period" value={period} options={periods} onChange={(e) => setPeriod(e.target.value)} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary grow">
          Show
        </button>
        <button type="button" className="btn btn-ghost" onClick={() => onChange({})}>
          Clear
        </button>
      </div>
      {period === "dates" && (
        <div className="grid gap-4 sm:col-span-2 sm:grid-cols-2 lg:col-span-6 lg:grid-cols-4">
          <Field label="From" name="since" type="datetime-local" defaultValue={localTime(filter.since)} />
          <Field label="To" name="until" type="datetime-local" defaultValue={localTime(filter.until)} />
        </div>
      )}
      <details className="sm:col-span-2 lg:col-span-6" open={more}>
        <summary className="cursor-pointer text-sm font-semibold">By grant, address, request or terms</summary>
        <div className="mt-3 grid gap-4 sm:grid-cols-2 lg:grid-cols-4">
          <Field label="Grant" name="grant" defaultValue={filter.grant} className="name" placeholder="gr_…" />
          <Field label="From address or network" name="addr" defaultValue={filter.addr} className="name" placeholder="10.20.0.0/16" />
          <Field label="Request" name="request_id" defaultValue={filter.request_id} className="name" placeholder="rq_…" />
          <Field label="Terms" name="q" defaultValue={filter.q} placeholder="-outcome:allowed environment:production" className="name" />
        </div>
      </details>
    </form>
  );
}
