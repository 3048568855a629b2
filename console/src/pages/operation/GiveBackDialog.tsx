import { useState, type FormEvent } from "react";
import { useGiveBackMasterKey, type MasterKey } from "../../api/masters";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field, Tick } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { base64 } from "../item/shapes";

// materialOf reads the chosen file of a form in base64.
export async function materialOf(form: HTMLFormElement): Promise<string> {
  const file = new FormData(form).get("material");
  return file instanceof File ? base64(new Uint8Array(await file.arrayBuffer())) : "";
}

// GiveBackDialog gives a master key back by the file that its owner has kept, or from its token.
export function GiveBackDialog({ of, onClose }: { of: MasterKey; onClose: () => void }) {
  const give = useGiveBackMasterKey(of.id);
  const [memory, setMemory] = useState(of.in_memory);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const body = of.origin === "token" ? {} : { material: await materialOf(event.currentTarget), in_memory: memory };
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
          <>
            <Field
              label="File with the key"
              name="material"
              type="file"
              required
              className="file-input"
              hint={
                <>
                  The same 32 bytes. Another key is refused: its fingerprint is not <span className="name">{of.fingerprint}</span>.
                </>
              }
            />
            <Tick checked={memory} onChange={(e) => setMemory(e.target.checked)}>
              Keep it in memory only: it is given again after each unlock
            </Tick>
          </>
        )}
        {give.error && <ProblemBox error={give.error} />}
        <DialogButtons onClose={onClose} action="Give it back" busy={give.isPending} />
      </form>
    </Dialog>
  );
}
