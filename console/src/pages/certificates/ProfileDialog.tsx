import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field, Tick } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { usePutProfile } from "./usePutProfile";
import { listOf, usages } from "./words";

type ProfileDialogProps = {
  drawer: string;
  authority: string;
  item?: Schemas["Item"];
  profile?: Schemas["CertificateProfile"];
  onClose: () => void;
};

const lists = [
  { name: "names", label: "Host names", hint: "Patterns: * is anything within one label, such as *.harbour.example." },
  { name: "networks", label: "Networks", hint: "Of addresses, such as 10.1.0.0/16." },
  { name: "subjects", label: "Common names", hint: "Patterns, for certificates of people or devices that have no host name." },
  { name: "key_types", label: "Types of keys", hint: "Empty for all that are good." },
] as const;

// ProfileDialog says which certificates an authority gives, for the first time or anew.
export function ProfileDialog({ drawer, authority, item, profile, onClose }: ProfileDialogProps) {
  const { put, error, busy } = usePutProfile(drawer, item, onClose);
  const limits = useLimits().data;
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const said: Schemas["CertificateProfile"] = {
      ...profile,
      authority,
      longest: text("longest"),
      usages: form.getAll("usages").map(String),
    };
    for (const { name } of lists) {
      const list = listOf(text(name));
      said[name] = list.length > 0 ? list : undefined; // which JSON leaves out
    }
    said.wildcards = Boolean(form.get("wildcards"));
    await put(form, said);
  };
  return (
    <Dialog title={item ? `Change ${item.name}` : `A profile of ${authority}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)} autoComplete="off">
        {item && <p>It applies to what is issued and renewed from now on.</p>}
        {!item && <NameField hint="Who may have its certificates is said by grants on this name." />}
        {lists.map(({ name, label, hint }) => (
          <Field key={name} label={label} name={name} className="name" defaultValue={profile?.[name]?.join(" ")} hint={hint} />
        ))}
        <Tick name="wildcards" defaultChecked={profile?.wildcards}>
          Also certificates for all names below one, such as *.harbour.example
        </Tick>
        <fieldset className="grid gap-1">
          <legend className="mb-1 text-sm font-semibold">For use as</legend>
          {usages.map((u) => (
            <Tick
              key={u.value}
              name="usages"
              value={u.value}
              defaultChecked={profile ? profile.usages?.includes(u.value) : u.value === "server"}
            >
              {u.text}
            </Tick>
          ))}
        </fieldset>
        <Field label="Longest life" name="longest" required className="name" defaultValue={profile?.longest ?? "90d"} hint="Such as 30d." />
        {!item && <Field label="Description" name="description" maxLength={limits?.description} />}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={item ? "Change it" : "Create the profile"} busy={busy} />
      </form>
    </Dialog>
  );
}
