import type { ReactNode } from "react";
import { Dialog, DialogButtons } from "./Dialog";
import { ProblemBox } from "./ProblemBox";

type ConfirmProps = {
  title: string;
  action: string;
  busy: boolean;
  error: unknown;
  children: ReactNode;
  onYes: () => void;
  onClose: () => void;
};

// Confirm says what happens before it is done.
export function Confirm({ title, action, busy, error, children, onYes, onClose }: ConfirmProps) {
  return (
    <Dialog title={title} onClose={onClose}>
      <form
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault();
          onYes();
        }}
      >
        <div className="grid gap-2">{children}</div>
        {Boolean(error) && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={action} busy={busy} />
      </form>
    </Dialog>
  );
}
