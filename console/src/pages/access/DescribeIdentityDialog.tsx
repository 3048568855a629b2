import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useDescribeIdentity } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { environments } from "./words";

// DescribeIdentityDialog changes what is said about a person, an app or a team.
export function DescribeIdentityDialog({ identity, onClose }: { identity: Schemas["Identity"]; onClose: () => void }) {
  const change = useDescribeIdentity(identity.subject);
  const app = identity.subject.startsWith("app:");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const said: Schemas["IdentityChanges"] = { description: text("description"), owner: text("owner") };
    if (app) Object.assign(said, { purpose: text("purpose"), environment: text("environment") });
    change.mutate(said, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Edit ${identity.subject}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Field label="Description" name="description" defaultValue={identity.description} maxLength={500} />
        {app && (
          <>
            <Field label="Purpose" name="purpose" defaultValue={identity.purpose} maxLength={500} hint="What it does with what it reads." />
            <Choice label="Runs in" name="environment" defaultValue={identity.environment} options={environments} />
          </>
        )}
        <SubjectField
          label="Owner"
          name="owner"
          kinds={["person", "team"]}
          defaultValue={identity.owner}
          placeholder="person:ticketing-lead"
          hint="Who answers for it."
        />
        {change.error && <ProblemBox error={change.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={change.isPending} />
      </form>
    </Dialog>
  );
}
