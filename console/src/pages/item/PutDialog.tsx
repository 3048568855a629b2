import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useAddVersion, useCreateItem, useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { formOf, shapes, versionOf } from "./shapes";
import { ValueInput } from "./ValueInput";

type PutDialogProps = { drawer: string; item?: Schemas["Item"]; fields?: Schemas["FieldInfo"][]; onClose: () => void };

const choices = (["text", "login", "connection", "ssh_key"] as const).map((value) => ({ value, text: shapes[value].text }));

const ends = [
  { value: "", text: "no end" }, { value: "30", text: "in 30 days" }, { value: "90", text: "in 90 days" }, { value: "365", text: "in a year" },
];

const inDays = (days: number) => new Date(Date.now() + days * 86_400_000).toISOString();

// PutDialog puts a new item in, or a new version of one. The value is masked from the first keystroke.
export function PutDialog({ drawer, item, fields = [], onClose }: PutDialogProps) {
  const [shape, setShape] = useState(item?.shape ?? "text");
  const asked = formOf(shape, fields);
  const create = useCreateItem(drawer);
  const add = useAddVersion(drawer, item?.name ?? "", item?.revision ?? 0);
  const navigate = useNavigate();
  const limits = useLimits().data;
  const [stored, setStored] = useState<Schemas["Stored"]>();
  // What is unusual about the value is shown before the dialog goes.
  const done = (s: Schemas["Stored"]) => {
    if (s.version.notes && s.version.notes.length > 0) setStored(s);
    else if (item) onClose();
    else void navigate(`/drawers/${drawer}/${s.item.name}`);
  };
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const days = Number(text("end"));
    const version: Schemas["NewVersion"] = { ...versionOf(form, asked), note: text("note") };
    if (item && asked.length > 0) version.merge = true;
    if (form.get("staged")) version.staged = true;
    if (days > 0) version.not_after = inDays(days);
    if (item) add.mutate(version, { onSuccess: done });
    else create.mutate({ name: text("name"), shape, description: text("description"), version, ...(form.get("use_only") && { use_only: true }) }, { onSuccess: done });
  };
  const error = create.error ?? add.error;
  if (stored) return <Notes stored={stored} onClose={() => (item ? onClose() : void navigate(`/drawers/${drawer}/${stored.item.name}`))} />;
  return (
    <Dialog title={item ? `New version of ${item.name}` : `Put a secret into ${drawer}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        {!item && <Field label="Name" name="name" required className="name" maxLength={limits?.name} pattern={limits?.name_pattern} title={limits?.name_form} hint="Lower-case letters, digits, - _ and ." />}
        {!item && <Field label="Description" name="description" maxLength={limits?.description} hint="What it is for. Everyone who may list the drawer reads this." />}
        {!item && (
          <Choice label="What it is" value={shape} onChange={(e) => setShape(e.target.value as typeof shape)} options={choices} />
        )}
        {asked.length === 0
          ? <ValueInput field={{ name: "value", label: "Value", required: true, hint: "One line. For exact bytes or files use the command line." }} input="value" recipe="recipe:value" />
          : asked.map((f) => <ValueInput key={f.name} field={f} input={`field:${f.name}`} recipe={`recipe:${f.name}`} keeps={Boolean(item)} />)}
        <Choice label="Served until" name="end" options={ends} />
        <Field label="Note" name="note" maxLength={limits?.note} hint="Why this version." />
        {!item && <label className="flex items-center gap-2"><input type="checkbox" name="use_only" className="checkbox" /> For use only: applications get it, no person is ever shown it, for good</label>}
        {item && <label className="flex items-center gap-2"><input type="checkbox" name="staged" className="checkbox" /> Staged: wait until somebody promotes it</label>}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Add the version" : "Put it in"} busy={create.isPending || add.isPending} />
      </form>
    </Dialog>
  );
}

// Notes are what is unusual about a value that was stored.
function Notes({ stored, onClose }: { stored: Schemas["Stored"]; onClose: () => void }) {
  return (
    <Dialog title={`${stored.item.name}@${stored.version.version} is stored`} onClose={onClose}>
      <div className="grid gap-4" role="status">
        <p>It was not shown. What stands out:</p>
        <ul className="list-disc pl-6">{(stored.version.notes ?? []).map((note) => <li key={note}>{note}</li>)}</ul>
        <div className="flex justify-end"><button type="button" className="btn btn-primary" onClick={onClose}>Go on</button></div>
      </div>
    </Dialog>
  );
}
