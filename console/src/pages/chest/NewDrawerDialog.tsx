import type { FormEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import { useMasterKeys } from "../../api/masters";
import { useCreateDrawer } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { UnderChoice } from "../../parts/UnderChoice";

export function NewDrawerDialog({ onClose }: { onClose: () => void }) {
  const create = useCreateDrawer();
  const masters = useMasterKeys().data?.master_keys ?? [];
  const navigate = useNavigate();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const environment = text("environment") as Schemas["NewDrawer"]["environment"];
    create.mutate(
      { name: text("name"), environment, description: text("description"), owner: text("owner"), master_key: text("under") },
      {
        onSuccess: (d) => void navigate(`/drawers/${d.name}`),
      },
    );
  };
  return (
    <Dialog title="New drawer" onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Field
          label="Name"
          name="name"
          required
          className="name"
          hint="One for each application and environment, such as ticketing-prod."
        />
        <Choice
          label="Environment"
          name="environment"
          options={["production", "staging", "development"].map((e) => ({ value: e, text: e }))}
        />
        <Field label="Description" name="description" />
        <SubjectField
          label="Owner"
          name="owner"
          kinds={["person", "team"]}
          placeholder="person:ticketing-lead"
          hint="Who answers for it."
        />
        {masters.length > 0 && <UnderChoice label="Its key is under" keys={masters} />}
        {create.error && <ProblemBox error={create.error} />}
        <DialogButtons onClose={onClose} action="Create the drawer" busy={create.isPending} />
      </form>
    </Dialog>
  );
}
