import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useGive, usePreview, useRoles } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Difference } from "../../parts/Difference";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { ways, type Way } from "../../parts/ways";
import { When } from "../../parts/When";

type GiveDialogProps = { subject: string; onClose: () => void };

const ends = [
  { value: "7", text: "in 7 days" }, { value: "30", text: "in 30 days" }, { value: "90", text: "in 90 days" },
  { value: "365", text: "in a year" }, { value: "never", text: "never, on purpose" },
];

// GiveDialog gives a grant and says what is unusual about it.
export function GiveDialog({ subject, onClose }: GiveDialogProps) {
  const give = useGive();
  const roles = useRoles();
  const [proposed, setProposed] = useState<Schemas["NewGrant"] | undefined>();
  const preview = usePreview(proposed && { give: proposed });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const grant: Schemas["NewGrant"] = { subject, role: text("role"), scope: text("scope"), reason: text("reason") };
    const networks = text("networks").split(/[\s,]+/).filter(Boolean);
    if (networks.length > 0) grant.networks = networks;
    if (text("hours")) grant.hours = text("hours");
    if (text("via")) grant.via = [text("via") as Way];
    if (form.get("needs_reason")) grant.needs_reason = true;
    if (text("end") === "never") grant.never_ends = true;
    else grant.not_after = new Date(Date.now() + Number(text("end")) * 86_400_000).toISOString();
    setProposed(grant);
  };
  if (give.data) {
    const { grant, notes } = give.data;
    return (
      <Dialog title="In force now" onClose={onClose}>
        <p><span className="name">{grant.subject}</span> is <b>{grant.role}</b> on <span className="name">{grant.scope}</span>, ends <When at={grant.not_after} />.</p>
        <ul className="text-warning mt-2 font-semibold">{notes.map((n) => <li key={n}>Note: {n}</li>)}</ul>
        <div className="mt-4 flex justify-end"><button type="button" className="btn btn-primary" onClick={onClose}>Done</button></div>
      </Dialog>
    );
  }
  const shown = proposed && preview.data;
  return (
    <Dialog title={shown ? "What this would change" : `Give ${subject} a grant`} wide={Boolean(shown)} onClose={onClose}>
      {shown && (
        <div className="grid gap-4">
          <p><span className="name">{subject}</span> would be <b>{proposed.role}</b> on <span className="name">{proposed.scope}</span>.</p>
          <Difference of={preview.data} />
          {give.error && <ProblemBox error={give.error} />}
          <div className="flex justify-end gap-2">
            <button type="button" className="btn btn-ghost" onClick={() => setProposed(undefined)}>Back</button>
            <button type="button" className="btn btn-primary" disabled={give.isPending} onClick={() => give.mutate(proposed)}>Give it</button>
          </div>
        </div>
      )}
      <form className={shown ? "hidden" : "grid gap-4"} onSubmit={submit}>
        <Choice label="Role" name="role" defaultValue="consumer" key={roles.data ? "ready" : "waiting"}
          options={(roles.data?.roles ?? []).map((r) => ({ value: r.name, text: `${r.name}: ${r.summary}` }))} />
        <Field label="Scope" name="scope" required className="name" hint="Such as ticketing-prod/db-password, ticketing-*/db-* or **[team=ticketing]." />
        <Choice label="Ends" name="end" defaultValue="90" options={ends} />
        <Field label="Reason" name="reason" />
        <ConditionFields />
        {preview.error && <ProblemBox error={preview.error} />}
        <DialogButtons onClose={onClose} action="See what it changes" busy={preview.isFetching} />
      </form>
    </Dialog>
  );
}

const wayOptions = [{ value: "", text: "any way" }, ...Object.entries(ways).map(([value, text]) => ({ value, text }))];

// ConditionFields are what may be asked besides; all of them may stay empty.
function ConditionFields() {
  return (
    <details className="border-base-300 rounded-box border p-4">
      <summary className="cursor-pointer font-semibold">Only under conditions</summary>
      <div className="mt-4 grid gap-4">
        <Field label="From networks" name="networks" className="name" hint="Such as 10.1.0.0/16; several with commas between." />
        <Field label="In these hours" name="hours" className="name" hint="Such as mon-fri 08:00-18:00 Europe/Lisbon." />
        <Choice label="Signed in by" name="via" options={wayOptions} />
        <label className="flex items-center gap-2"><input type="checkbox" name="needs_reason" className="checkbox" /> With a stated reason</label>
      </div>
    </details>
  );
}
