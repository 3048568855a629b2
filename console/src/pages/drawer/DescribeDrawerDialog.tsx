import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useDescribeDrawer } from "../../api/queries";
import { DescribedFields, describedOf } from "../../parts/DescribedFields";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field, Tick } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

const whom = [
  { value: "persons", text: "when a person reads" },
  { value: "everyone", text: "when anybody reads, applications too" },
];

// DescribeDrawerDialog changes what is said about a drawer, and which of its items are read only after a second person has agreed.
export function DescribeDrawerDialog({ drawer, onClose }: { drawer: Schemas["Drawer"]; onClose: () => void }) {
  const change = useDescribeDrawer(drawer);
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const said = describedOf(form);
    setWrong(typeof said === "string" ? said : "");
    if (typeof said === "string") return;
    const items = String(form.get("approval") ?? "")
      .split(/[\s,]+/)
      .filter(Boolean);
    const of = items.length > 0 ? (String(form.get("of")) as "persons" | "everyone") : "";
    change.mutate({ ...said, approval: { items, of }, keys_open: form.get("keys_open") === "on" }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Edit ${drawer.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <DescribedFields of={drawer} />
        <div className="grid gap-4 sm:grid-cols-2">
          <Field
            label="A second person agrees before these are read"
            name="approval"
            className="name"
            defaultValue={drawer.approval.items.join(", ")}
            placeholder="db-*, signing-key"
            hint="Names or patterns of items; empty for none."
          />
          <Choice label="When" name="of" defaultValue={drawer.approval.of || "persons"} options={whom} />
        </div>
        <Tick name="keys_open" defaultChecked={drawer.keys_open}>
          Anybody gets the public halves of its keys, without signing in
        </Tick>
        {wrong && (
          <p role="alert" className="text-error font-semibold">
            {wrong}
          </p>
        )}
        {change.error && <ProblemBox error={change.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={change.isPending} />
      </form>
    </Dialog>
  );
}
