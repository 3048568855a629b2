import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useEndUnlockMethod, useTurnRootKey } from "../../api/operation";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { ProblemBox } from "../../parts/ProblemBox";
import { Current, currentOf } from "./Current";

// CurrentDialog ends a method of unlocking, or turns the root key, once one shows what opens the chest.
export function CurrentDialog({ what, onClose }: { what: "root" | Schemas["UnlockMethod"]; onClose: () => void }) {
  const end = useEndUnlockMethod();
  const turn = useTurnRootKey();
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const current = await currentOf(event.currentTarget);
    if (what === "root") turn.mutate(current, { onSuccess: onClose });
    else end.mutate({ method: what.id, current }, { onSuccess: onClose });
  };
  const error = end.error ?? turn.error;
  return (
    <Dialog title={what === "root" ? "Turn the root key" : `End ${what.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {what === "root" ? (
          <p>All keys of drawers are wrapped anew, under another root key; the old one opens nothing in the file any more. What opens the chest stays as it is. Backups from before still open as they did.</p>
        ) : (
          <p>It opens the chest no more; copies from before still open by it. Show what opens the chest by <b>another</b> method, so that it is known that one is left.</p>
        )}
        <Current />
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={what === "root" ? "Turn it" : "End it"} busy={end.isPending || turn.isPending} />
      </form>
    </Dialog>
  );
}
