import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useEndUnlockMethod, useRotateRootKey } from "../../api/operation";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { ProblemBox } from "../../parts/ProblemBox";
import { Current, currentOf } from "./Current";

// CurrentDialog ends an unlock method, or rotates the root key, once one shows what opens the chest.
export function CurrentDialog({ what, onClose }: { what: "root" | Schemas["UnlockMethod"]; onClose: () => void }) {
  const end = useEndUnlockMethod();
  const rotate = useRotateRootKey();
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const current = await currentOf(event.currentTarget);
    if (what === "root") rotate.mutate(current, { onSuccess: onClose });
    else end.mutate({ method: what.id, current }, { onSuccess: onClose });
  };
  const error = end.error ?? rotate.error;
  return (
    <Dialog title={what === "root" ? "Rotate the root key" : `End ${what.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {what === "root" ? (
          <p>
            Every drawer key is wrapped again under a new root key, and the old one no longer opens anything in the file. The ways to unlock
            the chest stay the same. Older backups still open as before.
          </p>
        ) : (
          <p>
            It no longer opens the chest; older backups still open with it. Confirm with <b>another</b> method, to prove that at least one
            is left.
          </p>
        )}
        <Current />
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={what === "root" ? "Rotate it" : "End it"} busy={end.isPending || rotate.isPending} />
      </form>
    </Dialog>
  );
}
