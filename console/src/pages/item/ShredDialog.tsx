import type { FormEvent } from "react";
import { useAct } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type ShredDialogProps = { drawer: string; item: string; name: string; version?: number; onClose: () => void };

// ShredDialog destroys something for good, once its exact name is typed.
export function ShredDialog({ drawer, item, name, version, onClose }: ShredDialogProps) {
  const act = useAct(drawer, item);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    act.mutate(
      { act: "shred", name: String(new FormData(event.currentTarget).get("name")), ...(version && { version }) },
      { onSuccess: onClose },
    );
  };
  return (
    <Dialog title="Destroy it for good" onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          Its data keys are destroyed, and nothing brings it back from this database, not even the passphrase that unlocks the chest.{" "}
          <b>Backups made before still hold it.</b>
        </p>
        <Field label={`Type ${name}`} name="name" required className="name" autoComplete="off" />
        {act.error && <ProblemBox error={act.error} />}
        <DialogButtons onClose={onClose} action="Shred" busy={act.isPending} />
      </form>
    </Dialog>
  );
}
