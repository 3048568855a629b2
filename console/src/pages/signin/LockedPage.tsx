import { Lock } from "lucide-react";
import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useUnlock } from "../../api/operation";
import { Dialog } from "../../parts/Dialog";
import { Area, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";
import { Gate } from "./Gate";

const words: Record<string, string> = { passphrase: "Passphrase", key_file: "Key file", shares: "Your share", hardware: "Hardware" };

// LockedPage stands before everything else while the chest has no root key in memory.
export function LockedPage({ status }: { status: Schemas["Status"] }) {
  return (
    <Gate title="The chest is locked">
      <UnlockForm status={status} />
    </Gate>
  );
}

// LockedOver stands over the page of somebody who is signed in: what they typed is there when the chest is unlocked again.
export function LockedOver({ status }: { status: Schemas["Status"] }) {
  return (
    <Dialog title="The chest is locked" covers settled onClose={() => window.location.reload()}>
      <div className="grid gap-5">
        <UnlockForm status={status} />
      </div>
    </Dialog>
  );
}

function UnlockForm({ status }: { status: Schemas["Status"] }) {
  const unlock = useUnlock();
  const [unreadable, setUnreadable] = useState(false);
  const [by, setBy] = useState<string>(status.methods[0] ?? "passphrase");
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const given = new FormData(form).get("material");
    const material = given instanceof File ? await given.text().catch(() => null) : given;
    setUnreadable(material === null);
    if (material !== null) unlock.mutate(by === "shares" ? { share: material } : { material }, { onSuccess: () => form.reset() });
  };
  return (
    <>
      <p className="flex gap-3">
        <Lock className="text-primary mt-1 size-5 shrink-0" aria-hidden />
        <span>Nothing can be read or changed until somebody unlocks it.</span>
      </p>
      {status.problems.map((p) => (
        <p key={p.what} role="alert" className="text-error font-semibold">
          {p.what}. <span className="font-normal">{p.next}</span>
        </p>
      ))}
      {status.shares.map((s) => (
        <p key={s.method} role="status" className="bg-base-200 rounded-field p-3">
          <b>
            {s.have} of {s.needed} shares
          </b>{" "}
          of <span className="name">{s.method}</span> are there, the first <When at={s.since} />.
        </p>
      ))}
      <form key={by} className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {status.methods.length > 1 && (
          <fieldset className="flex flex-wrap gap-4">
            <legend className="sr-only">What you hold</legend>
            {status.methods.map((m) => (
              <label key={m} className="flex items-center gap-2">
                <input type="radio" className="radio radio-sm" name="by" value={m} checked={by === m} onChange={() => setBy(m)} />{" "}
                {words[m]}
              </label>
            ))}
          </fieldset>
        )}
        {by === "key_file" && <Field label="Key file" name="material" type="file" required className="file-input" />}
        {by === "passphrase" && (
          <Field
            label="Passphrase"
            name="material"
            type="password"
            autoComplete="off"
            required
            hint="Checking takes about half a second, by design."
          />
        )}
        {by === "shares" && (
          <Area
            label="Words of your share"
            name="material"
            required
            rows={3}
            className="textarea name masked w-full"
            hint="Twenty-one words of five letters."
          />
        )}
        {by === "hardware" && (
          <p>
            This can only be done on the machine with the hardware: <span className="name">tansu unlock --key-file FILE</span>
          </p>
        )}
        {unreadable && (
          <p role="alert" className="text-error font-semibold">
            The file cannot be read.
          </p>
        )}
        {unlock.error && <ProblemBox error={unlock.error} />}
        {by !== "hardware" && (
          <button type="submit" className="btn btn-primary" disabled={unlock.isPending}>
            {unlock.isPending ? "Checking …" : by === "shares" ? "Submit" : "Unlock"}
          </button>
        )}
      </form>
      <p className="muted name text-sm">{status.chest}</p>
    </>
  );
}
