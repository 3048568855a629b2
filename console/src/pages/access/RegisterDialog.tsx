import type { FormEvent } from "react";
import { useRegister } from "../../api/queries";
import { Dialog, DialogButtons } from "../../shared/Dialog";
import { Field } from "../../shared/Field";
import { ProblemBox } from "../../shared/ProblemBox";
import { ShownOnce } from "../../shared/ShownOnce";

type RegisterDialogProps = { kind: "person" | "app"; onClose: () => void };

// RegisterDialog registers somebody and then shows the credential, once.
export function RegisterDialog({ kind, onClose }: RegisterDialogProps) {
  const register = useRegister();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    register.mutate({ kind, name: text("name"), description: text("description"), owner: text("owner") });
  };
  if (register.data) {
    return (
      <Dialog title="Registered" onClose={onClose}>
        <ShownOnce issued={register.data.credential} subject={register.data.identity.subject} />
        <p className="mt-4">It may do nothing yet. Open its page to give it a grant.</p>
        <div className="mt-4 flex justify-end"><button type="button" className="btn btn-primary" onClick={onClose}>Done, I have it</button></div>
      </Dialog>
    );
  }
  return (
    <Dialog title={kind === "app" ? "Register an app" : "Register a person"} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Field label="Name" name="name" required className="name" hint={kind === "app" ? "Such as ticket-api." : "By duty, such as platform-oncall."} />
        <Field label="Description" name="description" />
        {kind === "app" && <Field label="Owner" name="owner" className="name" hint="Who answers for it, such as person:ticketing-lead." />}
        {register.error && <ProblemBox error={register.error} />}
        <DialogButtons onClose={onClose} action="Register" busy={register.isPending} />
      </form>
    </Dialog>
  );
}
