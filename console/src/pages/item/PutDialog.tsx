import type { FormEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useAddVersion, useCreateItem } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type PutDialogProps = { drawer: string; item?: Schemas["Item"]; onClose: () => void };

const ends = [
  { value: "", text: "no end" }, { value: "30", text: "in 30 days" }, { value: "90", text: "in 90 days" }, { value: "365", text: "in a year" },
];

// PutDialog puts a new item in, or a new version of one. The value is masked from the first keystroke.
export function PutDialog({ drawer, item, onClose }: PutDialogProps) {
  const create = useCreateItem(drawer);
  const add = useAddVersion(drawer, item?.name ?? "", item?.revision ?? 0);
  const navigate = useNavigate();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const days = Number(text("end"));
    const version: Schemas["NewVersion"] = { value: base64(text("value")), encoding: "base64", note: text("note") };
    if (days > 0) version.not_after = new Date(Date.now() + days * 86_400_000).toISOString();
    if (item) add.mutate(version, { onSuccess: onClose });
    else create.mutate({ name: text("name"), description: text("description"), version }, { onSuccess: (s) => void navigate(`/drawers/${drawer}/${s.item.name}`) });
  };
  const error = create.error ?? add.error;
  return (
    <Dialog title={item ? `New version of ${item.name}` : `Put a secret into ${drawer}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        {!item && <Field label="Name" name="name" required className="name" hint="Lower-case letters, digits, - _ and ." />}
        {!item && <Field label="Description" name="description" hint="What it is for. Everyone who may list the drawer reads this." />}
        <Field label="Value" name="value" type="password" required autoComplete="new-password" className="name" hint="One line. For exact bytes or files use the command line." />
        <Choice label="Served until" name="end" options={ends} />
        <Field label="Note" name="note" hint="Why this version." />
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Add the version" : "Put it in"} busy={create.isPending || add.isPending} />
      </form>
    </Dialog>
  );
}

function base64(text: string): string {
  return btoa(String.fromCharCode(...new TextEncoder().encode(text)));
}
