import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useKeyUsers } from "../../api/keys";
import { useDecryptFrom } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type Props = { drawer: string; item: Schemas["Item"]; seesUsers: boolean; onClose: () => void };

// DecryptFromDialog says from which version on a key decrypts, once it has told who still decrypts with older ones.
export function DecryptFromDialog({ drawer, item, seesUsers, onClose }: Props) {
  const users = useKeyUsers(drawer, item.name, seesUsers);
  const change = useDecryptFrom(drawer, item);
  const from = item.key?.decrypt_from ?? 0;
  const old = (users.data?.users ?? []).filter((u) => u.action === "decrypt" && u.version < item.current);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    change.mutate(Number(new FormData(event.currentTarget).get("from")), { onSuccess: onClose });
  };
  const versions = Array.from({ length: item.versions }, (_, n) => n + 1);
  return (
    <Dialog title={`Which versions of ${item.name} decrypt`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Choice
          label="It decrypts"
          name="from"
          defaultValue={String(from)}
          options={[
            { value: "0", text: "with every version" },
            ...versions.slice(1).map((v) => ({ value: String(v), text: `from version ${v} on` })),
          ]}
          hint="What older versions encrypted stays closed, until you choose an older one again. Move it first: tansu key rewrap."
        />
        {users.error && <ProblemBox error={users.error} />}
        {users.data && old.length === 0 && <p className="muted text-sm">Nobody has decrypted with a version before @{item.current}.</p>}
        {old.length > 0 && (
          <div className="bg-base-200 rounded-box p-4 text-sm">
            <p className="font-semibold">Older versions were used to decrypt</p>
            <ul className="mt-1 grid gap-1">
              {old.map((u) => (
                <li key={`${u.subject} ${u.version}`}>
                  @{u.version}: {u.times === 1 ? "once" : `${u.times} times`} by <span className="name">{u.subject}</span>
                </li>
              ))}
            </ul>
          </div>
        )}
        {change.error && <ProblemBox error={change.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={change.isPending} />
      </form>
    </Dialog>
  );
}
