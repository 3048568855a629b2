import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { usePreview, useStoreRole } from "../../api/rights";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Difference } from "../../parts/Difference";
import { Field, Tick } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

const actions: { value: string; text: string }[] = [
  { value: "list", text: "list: see that things exist" },
  { value: "see_metadata", text: "see metadata: everything but values" },
  { value: "read_value", text: "read value" },
  { value: "encrypt", text: "encrypt with keys" },
  { value: "decrypt", text: "decrypt with keys" },
  { value: "sign", text: "sign with keys" },
  { value: "verify", text: "verify MACs with keys" },
  { value: "issue", text: "issue: get certificates by a profile" },
  { value: "write_version", text: "write version: add items and versions" },
  { value: "change_item", text: "change item: describe, suspend, move" },
  { value: "retire", text: "retire" },
  { value: "shred", text: "shred: destroy for good" },
  { value: "change_rules", text: "change rules, make drawers" },
  { value: "grant", text: "grant: give and end access" },
  { value: "register", text: "register people and apps" },
  { value: "read_trail", text: "read trail" },
  { value: "operate", text: "operate: lock, unlock, back up" },
];

// RoleDialog makes a role, or changes one: at once for everybody who has it, and so only after a look at what that changes.
export function RoleDialog({ role, onClose }: { role?: Schemas["Role"]; onClose: () => void }) {
  const store = useStoreRole(role?.name);
  const [proposed, setProposed] = useState<Schemas["NewRole"]>();
  const preview = usePreview(role && proposed && { role: proposed });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const asked: Schemas["NewRole"] = {
      name: role?.name ?? String(form.get("name")),
      description: String(form.get("description") ?? ""),
      actions: form.getAll("action").map(String),
    };
    if (role && JSON.stringify(asked) !== JSON.stringify(proposed)) setProposed(asked);
    else store.mutate(asked, { onSuccess: onClose });
  };
  const looked = role && proposed && preview.data;
  return (
    <Dialog title={role ? `Change the role ${role.name}` : "Create a role"} wide={Boolean(looked)} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} onChange={() => setProposed(undefined)}>
        {!role && <Field label="Name" name="name" required className="name" placeholder="rotator" />}
        <Field label="Description" name="description" defaultValue={role?.summary} maxLength={500} />
        <fieldset className="grid gap-2 sm:grid-cols-2">
          <legend className="mb-1 text-sm font-semibold">Actions</legend>
          {actions.map((a) => (
            <Tick key={a.value} name="action" value={a.value} defaultChecked={role?.actions.includes(a.value)}>
              {a.text}
            </Tick>
          ))}
        </fieldset>
        {looked && (
          <section aria-label="What this would change">
            <h3 className="mb-2 font-semibold">What this would change</h3>
            <Difference of={preview.data} />
          </section>
        )}
        {(store.error ?? preview.error) && <ProblemBox error={store.error ?? preview.error} />}
        <DialogButtons
          onClose={onClose}
          action={!role ? "Create it" : looked ? "Change it" : "See what it changes"}
          busy={store.isPending || preview.isFetching}
        />
      </form>
    </Dialog>
  );
}
