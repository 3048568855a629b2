import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { SSHFields, sshOf } from "./SSHFields";
import { TokenFields, tokensOf } from "./TokenFields";
import { usePutProfile } from "./usePutProfile";

type KeyProfileDialogProps = {
  drawer: string;
  authority: string;
  item?: Schemas["Item"];
  profile?: Schemas["CertificateProfile"];
  onClose: () => void;
};

// KeyProfileDialog says what a key signs for the subscribers of a profile: tokens, or certificates of SSH.
export function KeyProfileDialog({ drawer, authority, item, profile, onClose }: KeyProfileDialogProps) {
  const { put, error, busy } = usePutProfile(drawer, item, onClose);
  const limits = useLimits().data;
  const [gives, setGives] = useState<"jwt" | "user" | "host">(profile?.ssh ?? "jwt");
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    await put(form, {
      authority,
      longest: String(form.get("longest")).trim(),
      ...(gives === "jwt" ? { jwt: { ...profile?.jwt, ...tokensOf(form) } } : { ssh: gives, ...sshOf(form) }),
    });
  };
  return (
    <Dialog title={item ? `Change ${item.name}` : `A profile of ${authority}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)} autoComplete="off">
        {item && <p>It applies to what is signed from now on.</p>}
        {!item && <NameField hint="Who may have what it gives is said by grants of subscriber on this name." />}
        {!item && (
          <Choice
            label="The key signs"
            value={gives}
            onChange={(e) => setGives(e.target.value as typeof gives)}
            options={[
              { value: "jwt", text: "JSON Web Tokens" },
              { value: "user", text: "SSH certificates of users" },
              { value: "host", text: "SSH certificates of hosts" },
            ]}
          />
        )}
        {gives === "jwt" ? <TokenFields of={profile?.jwt} /> : <SSHFields key={gives} of={profile} user={gives === "user"} />}
        <Field
          key={`life of ${gives}`}
          label="Longest life"
          name="longest"
          required
          className="name"
          defaultValue={profile?.longest ?? { jwt: "15m", user: "12h", host: "30d" }[gives]}
          hint={gives === "jwt" ? "Up to 7d. Nobody can take a token back: let it be short." : "Up to 90d, such as 12h."}
        />
        {!item && <Field label="Description" name="description" maxLength={limits?.description} />}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Change it" : "Create the profile"} busy={busy} />
      </form>
    </Dialog>
  );
}
