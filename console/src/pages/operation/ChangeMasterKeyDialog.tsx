import type { FormEvent } from "react";
import { useChangeMasterKey, type MasterKey } from "../../api/masters";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";

// ChangeMasterKeyDialog says another name, owner or description of a master key.
export function ChangeMasterKeyDialog({ of, onClose }: { of: MasterKey; onClose: () => void }) {
  const change = useChangeMasterKey(of);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    change.mutate({ name: text("name"), owner: text("owner"), description: text("description") }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Master key ${of.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Field label="Name" name="name" required className="name" defaultValue={of.name} autoComplete="off" />
        <SubjectField
          label="Owner"
          name="owner"
          kinds={["person", "team"]}
          defaultValue={of.owner}
          required
          hint="May withdraw it and give it back, besides operators of the chest."
        />
        <Field label="Description" name="description" defaultValue={of.description} />
        {change.error && <ProblemBox error={change.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={change.isPending} />
      </form>
    </Dialog>
  );
}
