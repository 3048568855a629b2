import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useMasterKeys } from "../../api/masters";
import type { useRotateKey } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { ProblemBox } from "../../parts/ProblemBox";
import { UnderChoice } from "../../parts/UnderChoice";

type Props = { drawer: Schemas["Drawer"]; rotate: ReturnType<typeof useRotateKey>; onClose: () => void };

// RotateDialog gives a drawer another key, under what the one before was under or under something else.
export function RotateDialog({ drawer, rotate, onClose }: Props) {
  const keys = useMasterKeys();
  const all = keys.data?.master_keys ?? [];
  const now = drawer.master_key ?? "";
  // Only whoever may withdraw a master key takes a drawer from under it.
  const leaves = now === "" || all.some((k) => k.name === now && k.manages);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const chosen = new FormData(event.currentTarget).get("under");
    rotate.mutate(typeof chosen === "string" && chosen !== now ? { master_key: chosen } : undefined, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Rotate the key of ${drawer.name}?`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          Its values are put under a new key, and the old key is destroyed. Nobody has to do anything, and reads go on. Backups made before
          stay as they are.
        </p>
        {all.length > 0 && leaves && <UnderChoice label="The new key is under" keys={all} now={now} />}
        {!leaves && keys.data && (
          <p className="muted text-sm">
            It stays under master key <span className="name">{now}</span>: only that key’s owner and operators take a drawer from under it.
          </p>
        )}
        {rotate.error && <ProblemBox error={rotate.error} />}
        <DialogButtons onClose={onClose} action="Rotate" busy={rotate.isPending} />
      </form>
    </Dialog>
  );
}
