import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useAddVersion, useCreateItem, useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Choice, Field, Tick } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { KeyDialog } from "./KeyDialog";
import { Notes } from "./Notes";
import { OwnFields } from "./OwnFields";
import { formOf, ownFields, shapes, versionOf } from "./shapes";
import { ValueInput } from "./ValueInput";

type PutDialogProps = {
  drawer: string;
  rules?: Schemas["Rules"];
  item?: Schemas["Item"];
  fields?: Schemas["FieldInfo"][];
  onPut?: () => void;
  onClose: () => void;
};

const choices = (["text", "login", "connection", "ssh_key", "fields", "file"] as const).map((value) => ({
  value,
  text: shapes[value].text,
}));

// PutDialog puts a new item in, or a new version of one; that of a key is made.
export function PutDialog(props: PutDialogProps) {
  return props.item?.key ? <KeyDialog {...props} /> : <PutSecret {...props} />;
}

// PutSecret asks for a value, which is masked from the first keystroke.
function PutSecret({ drawer, rules, item, fields = [], onPut, onClose }: PutDialogProps) {
  const [shape, setShape] = useState(item?.shape ?? "text");
  const [rows, setRows] = useState([0]);
  const asked = formOf(shape, fields);
  const own = shape === "fields" && asked.length === 0;
  const create = useCreateItem(drawer);
  const add = useAddVersion(drawer, item?.name ?? "", item?.revision ?? 0);
  const navigate = useNavigate();
  const limits = useLimits().data;
  const [stored, setStored] = useState<Schemas["Stored"]>();
  const goOn = (s: Schemas["Stored"]) => (item ? onClose() : void navigate(`/drawers/${drawer}/${s.item.name}`));
  // What is unusual about the value is shown before the dialog goes.
  const done = (s: Schemas["Stored"]) => {
    onPut?.();
    if (s.version.notes && s.version.notes.length > 0) setStored(s);
    else goOn(s);
  };
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const version: Schemas["NewVersion"] = { ...(own ? await ownFields(form, rows) : await versionOf(form, asked)), note: text("note") };
    const { not_after } = endOf(form);
    if (not_after) version.not_after = not_after;
    if (text("from")) version.not_before = new Date(text("from")).toISOString();
    if (item && asked.length > 0) version.merge = true;
    if (form.get("staged")) version.staged = true;
    if (item) add.mutate(version, { onSuccess: done });
    else
      create.mutate(
        {
          name: text("name"),
          shape,
          description: text("description"),
          owner: text("owner"),
          version,
          ...(form.get("use_only") && { use_only: true }),
        },
        { onSuccess: done },
      );
  };
  const error = create.error ?? add.error;
  if (stored) return <Notes stored={stored} onClose={() => goOn(stored)} />;
  return (
    <Dialog title={item ? `New version of ${item.name}` : `Put a secret into ${drawer}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)} autoComplete="off">
        {!item && <NameField />}
        {!item && <Choice label="What it is" value={shape} onChange={(e) => setShape(e.target.value as typeof shape)} options={choices} />}
        {own && <OwnFields rows={rows} onRows={setRows} />}
        {!own && asked.length === 0 && (
          <ValueInput field={{ name: "value", label: "Value", required: true }} input="value" recipe="recipe:value" />
        )}
        {asked.map((f) => (
          <ValueInput key={f.name} field={f} input={`field:${f.name}`} recipe={`recipe:${f.name}`} keeps={Boolean(item)} />
        ))}
        <EndChoice
          label="Served until"
          days={[30, 90, 365]}
          chosen={rules?.needs_end ? "90" : "never"}
          never={rules?.needs_end ? undefined : "no end"}
        />
        {!item && (
          <Field
            label="Description"
            name="description"
            maxLength={limits?.description}
            hint="What it is for. Everyone who may list the drawer reads this."
          />
        )}
        {!item && (
          <SubjectField
            label="Owner"
            name="owner"
            kinds={["person", "team"]}
            required={Boolean(rules?.owner)}
            placeholder="person:ticketing-lead"
            hint={
              rules?.owner
                ? `This drawer's rules require ${rules.owner === "any" ? "an owner" : `a ${rules.owner} as owner`}.`
                : "Who answers for it, and is told before it ends."
            }
          />
        )}
        <details className="border-base-300 rounded-box border p-4" open={Boolean(item)}>
          <summary className="cursor-pointer font-semibold">More</summary>
          <div className="mt-4 grid gap-4">
            <Field label="Note" name="note" maxLength={limits?.note} hint="Why this version is added." />
            <Field label="Served from" name="from" type="datetime-local" hint="Leave empty for now." />
            {!item && <Tick name="use_only">For use only: applications get it, no person is ever shown it, for good</Tick>}
            {item && <Tick name="staged">Staged: wait until somebody promotes it</Tick>}
          </div>
        </details>
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Add the version" : "Put it in"} busy={create.isPending || add.isPending} />
      </form>
    </Dialog>
  );
}
