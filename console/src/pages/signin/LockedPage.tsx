import { Lock } from "lucide-react";
import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useUnlock } from "../../api/queries";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { Gate } from "./Gate";

// LockedPage stands before everything else while the chest has no root key in memory.
export function LockedPage({ status }: { status: Schemas["Status"] }) {
  const unlock = useUnlock();
  const [unreadable, setUnreadable] = useState(false);
  const byFile = status.method === "key_file";
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const given = new FormData(event.currentTarget).get("material");
    const material = given instanceof File ? await given.text().catch(() => null) : given;
    setUnreadable(material === null);
    if (material !== null) unlock.mutate(material);
  };
  return (
    <Gate title="The chest is locked">
      <p className="flex gap-3">
        <Lock className="text-primary mt-1 size-5 shrink-0" aria-hidden />
        <span>Nothing can be read or changed until somebody who holds its {byFile ? "key file" : "passphrase"} unlocks it.</span>
      </p>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {byFile ? (
          <Field label="Key file" name="material" type="file" required className="file-input" />
        ) : (
          <Field label="Passphrase" name="material" type="password" autoComplete="off" required hint="Checking takes about half a second, on purpose." />
        )}
        {unreadable && <p role="alert" className="text-error font-semibold">The file cannot be read.</p>}
        {unlock.error && <ProblemBox error={unlock.error} />}
        <button type="submit" className="btn btn-primary" disabled={unlock.isPending}>{unlock.isPending ? "Checking …" : "Unlock"}</button>
      </form>
      <p className="muted name text-sm">{status.chest}</p>
    </Gate>
  );
}
