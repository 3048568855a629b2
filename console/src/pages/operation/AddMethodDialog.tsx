import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useAddUnlockMethod } from "../../api/operation";
import { useIdentities } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { Current, currentOf } from "./Current";

// AddMethodDialog adds a passphrase, or shares for custodians. A key file is made where it is kept, on the command line.
export function AddMethodDialog({ onClose }: { onClose: () => void }) {
  const add = useAddUnlockMethod();
  const [kind, setKind] = useState("shares");
  const [unequal, setUnequal] = useState(false);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const fields = new FormData(form);
    const text = (name: string) => String(fields.get(name) ?? "");
    setUnequal(text("material") !== text("again"));
    if (text("material") !== text("again")) return;
    const body: Schemas["NewUnlockMethod"] = {
      name: text("name"),
      kind: kind === "shares" ? "shares" : "passphrase",
      current: await currentOf(form),
      ...(kind === "shares"
        ? { needed: Number(text("needed")), custodians: fields.getAll("custodian").map(String) }
        : { material: text("material") }),
    };
    add.mutate(body, { onSuccess: onClose });
  };
  return (
    <Dialog title="Add an unlock method" onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        <Choice
          label="By"
          value={kind}
          onChange={(e) => setKind(e.target.value)}
          options={[
            { value: "shares", text: "shares of several custodians" },
            { value: "passphrase", text: "a passphrase" },
          ]}
        />
        <Field
          label="Name"
          name="name"
          required
          className="name"
          defaultValue={kind === "shares" ? "custodians" : ""}
          key={kind}
          autoComplete="off"
          hint="Such as custodians, or night-shift."
        />
        {kind === "shares" ? (
          <Custodians />
        ) : (
          <>
            <Field label="New passphrase" name="material" type="password" autoComplete="new-password" minLength={12} required />
            <Field label="New passphrase again" name="again" type="password" autoComplete="new-password" required />
            {unequal && (
              <p role="alert" className="text-error font-semibold">
                The two do not match.
              </p>
            )}
          </>
        )}
        <Current />
        {add.error && <ProblemBox error={add.error} />}
        <DialogButtons onClose={onClose} action="Add it" busy={add.isPending} />
      </form>
    </Dialog>
  );
}

function Custodians() {
  const identities = useIdentities(useMay().seesIdentities);
  const people = (identities.data?.identities ?? []).filter((i) => i.subject.startsWith("person:") && i.state === "active");
  return (
    <>
      <Field label="How many are needed" name="needed" type="number" min={2} max={32} defaultValue={2} required className="w-24" />
      <fieldset className="grid gap-1">
        <legend className="mb-1 text-sm font-semibold">Who gets a share</legend>
        {identities.error && (
          <p className="muted text-sm">You may not list people: name them on the command line, with tansu unlock-method add.</p>
        )}
        <div className="grid max-h-48 gap-1 overflow-y-auto">
          {people.map((p) => (
            <label key={p.subject} className="flex items-center gap-2">
              <input type="checkbox" className="checkbox checkbox-sm" name="custodian" value={p.subject} />{" "}
              <span className="name text-sm">{p.subject}</span>
            </label>
          ))}
        </div>
        <p className="muted text-sm">Each of them signs in and collects a share, once. A single share opens nothing.</p>
      </fieldset>
    </>
  );
}
