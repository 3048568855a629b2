import type { FormEvent } from "react";
import type { TrailFilter } from "../../api/queries";
import { Choice, Field } from "../../parts/Field";

type FiltersProps = { filter: TrailFilter; onChange: (filter: Record<string, string>) => void };

const any = { value: "", text: "any" };
const actions = ["read_value", "write_version", "list", "list_drawers", "see_metadata", "grant", "register", "change_rules", "change_item", "sign_in", "issue_token", "read_trail", "unlock", "lock"];
const outcomes = ["allowed", "refused", "failed"];
const options = (values: string[]) => [any, ...values.map((v) => ({ value: v, text: v.replaceAll("_", " ") }))];

export function Filters({ filter, onChange }: FiltersProps) {
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const chosen: Record<string, string> = {};
    for (const [name, value] of form) if (typeof value === "string" && value.trim()) chosen[name] = value.trim();
    onChange(chosen);
  };
  return (
    <form role="search" aria-label="Filter the trail" className="panel mb-6 grid items-end gap-4 sm:grid-cols-2 lg:grid-cols-6" onSubmit={submit}>
      <Field label="Look for" name="q" defaultValue={filter.q} placeholder="-outcome:allowed since:7d" className="name" />
      <Field label="Who" name="subject" defaultValue={filter.subject} placeholder="app:ticket-api" className="name" />
      <Field label="Drawer, item or subject" name="target" defaultValue={filter.target} placeholder="ticketing-prod" className="name" />
      <Choice label="Action" name="action" defaultValue={filter.action ?? ""} options={options(actions)} />
      <Choice label="Outcome" name="outcome" defaultValue={filter.outcome ?? ""} options={options(outcomes)} />
      <div className="flex gap-2">
        <button type="submit" className="btn btn-primary grow">Show</button>
        <button type="button" className="btn btn-ghost" onClick={() => onChange({})}>Clear</button>
      </div>
    </form>
  );
}
