import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useMakeMasterKey } from "../../api/masters";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { MaterialFields, materialOf } from "./MaterialFields";

type Origin = Schemas["MasterKeyOrigin"];

const hints: Record<Origin, string> = {
  brought: "You keep it, too. Withdrawn, the drawers under it open again only with your copy.",
  made: "Only the chest has it, so that it cannot be withdrawn. It keeps drawers apart.",
  token: "It is sealed by a key in a PKCS #11 token of the service's machine, which has to be there at each unlock.",
};

// NewMasterKeyDialog makes a master key, or brings one.
export function NewMasterKeyDialog({ onClose }: { onClose: () => void }) {
  const make = useMakeMasterKey();
  const [origin, setOrigin] = useState<Origin>("brought");
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const body: Schemas["NewMasterKey"] = { name: text("name"), origin, owner: text("owner"), description: text("description") };
    if (origin === "brought") Object.assign(body, await materialOf(event.currentTarget));
    if (origin === "token") body.token = text("token");
    make.mutate(body, { onSuccess: onClose });
  };
  return (
    <Dialog title="Add a master key" onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        <Choice
          label="Where it comes from"
          value={origin}
          onChange={(e) => setOrigin(e.target.value as Origin)}
          options={[
            { value: "brought", text: "brought by its owner" },
            { value: "made", text: "made by the chest" },
            { value: "token", text: "a PKCS #11 token" },
          ]}
          hint={hints[origin]}
        />
        <Field label="Name" name="name" required className="name" autoComplete="off" hint="Such as crew-office." />
        {origin === "brought" && (
          <MaterialFields
            hint={
              <>
                32 random bytes: <code className="name">openssl rand -out crew.masterkey 32</code>
              </>
            }
          />
        )}
        {origin === "token" && (
          <Field
            label="Token"
            name="token"
            required
            className="name"
            autoComplete="off"
            hint="The name that the service was started with: tansu serve --pkcs11-token NAME=…"
          />
        )}
        <SubjectField
          label="Owner"
          name="owner"
          kinds={["person", "team"]}
          placeholder="team:crew-office"
          hint="May withdraw it and give it back. You, if you leave it empty."
        />
        <Field label="Description" name="description" />
        {make.error && <ProblemBox error={make.error} />}
        <DialogButtons onClose={onClose} action="Add it" busy={make.isPending} />
      </form>
    </Dialog>
  );
}
