import type { FormEvent } from "react";
import { Dialog, DialogButtons } from "./Dialog";
import { Field } from "./Field";
import { ProblemBox } from "./ProblemBox";

type ReasonDialogProps = {
  title: string;
  label: string;
  hint: string;
  action: string;
  busy: boolean;
  error: unknown;
  onSay: (text: string) => void;
  onClose: () => void;
};

// ReasonDialog asks for one line, for somebody else to read, before something is done.
export function ReasonDialog({ title, label, hint, action, busy, error, onSay, onClose }: ReasonDialogProps) {
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    onSay(String(new FormData(event.currentTarget).get("reason")));
  };
  return (
    <Dialog title={title} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Field label={label} name="reason" required maxLength={200} hint={hint} />
        {Boolean(error) && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={action} busy={busy} />
      </form>
    </Dialog>
  );
}
