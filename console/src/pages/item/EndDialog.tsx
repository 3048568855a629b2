import { useState, type FormEvent } from "react";
import { problemOf, type Schemas } from "../../api/client";
import { useSetWindow } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field, Tick } from "../../parts/Field";
import { localTime } from "../../parts/localTime";
import { ProblemBox } from "../../parts/ProblemBox";

type EndDialogProps = { drawer: string; item: string; version: Schemas["Version"]; onClose: () => void };

// EndDialog changes when a version ends; its value stays as it is.
export function EndDialog({ drawer, item, version, onClose }: EndDialogProps) {
  const set = useSetWindow(drawer, item);
  const [never, setNever] = useState(!version.not_after);
  const again = set.error !== null && problemOf(set.error).field === "allow_again";
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const [from, until] = ["not_before", "not_after"].map((name) => String(form.get(name) ?? ""));
    set.mutate(
      {
        version: version.version,
        ...(from && { not_before: new Date(from).toISOString() }),
        ...(never || !until ? { never_ends: never } : { not_after: new Date(until).toISOString() }),
        ...(form.get("meant") && { allow_again: true }),
      },
      { onSuccess: onClose },
    );
  };
  return (
    <Dialog title={`When @${version.version} of ${item} is served`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p className="muted">Its value stays as it is. The rules of {drawer} apply as well.</p>
        <Field
          label="Served from"
          name="not_before"
          type="datetime-local"
          defaultValue={localTime(version.not_before)}
          hint="Leave empty for now."
        />
        <Field
          label="Until"
          name="not_after"
          type="datetime-local"
          defaultValue={localTime(version.not_after)}
          disabled={never}
          required={!never}
        />
        <Tick checked={never} onChange={(e) => setNever(e.target.checked)}>
          It never ends
        </Tick>
        {again && (
          <Tick strong name="meant">
            Yes, serve the ended version again
          </Tick>
        )}
        {set.error && <ProblemBox error={set.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={set.isPending} />
      </form>
    </Dialog>
  );
}
