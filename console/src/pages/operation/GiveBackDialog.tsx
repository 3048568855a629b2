import type { FormEvent } from "react";
import { useGiveBackMasterKey, type MasterKey } from "../../api/masters";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { ProblemBox } from "../../parts/ProblemBox";
import { MaterialFields, materialOf } from "./MaterialFields";

// GiveBackDialog gives a master key back by the file that its owner has kept, or from its token.
export function GiveBackDialog({ of, onClose }: { of: MasterKey; onClose: () => void }) {
  const give = useGiveBackMasterKey(of.id);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const body = of.origin === "token" ? {} : await materialOf(event.currentTarget);
    give.mutate(body, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Give back master key ${of.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {of.origin === "token" ? (
          <p>
            The chest asks token <span className="name">{of.token}</span> for it, which has to be there.
          </p>
        ) : (
          <MaterialFields
            memory={of.in_memory}
            hint={
              <>
                The same 32 bytes. Another key is refused: its fingerprint is not <span className="name">{of.fingerprint}</span>.
              </>
            }
          />
        )}
        {give.error && <ProblemBox error={give.error} />}
        <DialogButtons onClose={onClose} action="Give it back" busy={give.isPending} />
      </form>
    </Dialog>
  );
}
