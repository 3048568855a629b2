import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { useCreateAuthority, useRequestCertificate, useSelfSigned } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { useCreateItem, useLimits } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { encoded } from "../item/shapes";
import { keyChoices, listOf } from "./words";

const whats = [
  { value: "authority", text: "an authority of our own, which signs certificates" },
  { value: "brought", text: "a certificate that was made elsewhere: I bring it with its key" },
  { value: "requested", text: "a key and a request, for an authority elsewhere" },
  { value: "self-signed", text: "a certificate that is signed by its own key" },
  { value: "brought-authority", text: "an authority that was made elsewhere: I bring it with its key" },
];

type NewCertificateDialogProps = { drawer: string; rules?: Schemas["Rules"]; onClose: () => void };

// NewCertificateDialog makes, asks for or takes what a certificate comes from. Those of an authority here are issued by its profiles.
export function NewCertificateDialog({ drawer, rules, onClose }: NewCertificateDialogProps) {
  const [what, setWhat] = useState("authority");
  const authority = useCreateAuthority(drawer);
  const brought = useCreateItem(drawer);
  const requested = useRequestCertificate(drawer);
  const selfSigned = useSelfSigned(drawer);
  const navigate = useNavigate();
  const limits = useLimits().data;
  const brings = what.startsWith("brought");
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const item = text("name");
    const about = { description: text("description"), owner: text("owner") };
    const done = { onSuccess: () => void navigate(`/drawers/${drawer}/${item}`) };
    const file = async (name: string) => encoded(form.get(name));
    const order = { item, ...about, names: listOf(text("names")), key_type: text("key_type") };
    const under = text("under");
    const within = listOf(text("within"));
    switch (what) {
      case "authority":
        return authority.mutate(
          {
            name: item,
            ...about,
            subject: text("subject"),
            life: text("life"),
            key_type: text("key_type"),
            served_at: location.origin,
            ...(under && { under }),
            ...(within.length > 0 && { within }),
          },
          done,
        );
      case "brought-authority":
        return authority.mutate(
          {
            name: item,
            ...about,
            served_at: location.origin,
            certificate: atob(await file("certificate")),
            private: await file("private"),
          },
          done,
        );
      case "brought":
        return brought.mutate(
          {
            name: item,
            ...about,
            shape: "certificate",
            version: {
              fields: [
                { name: "certificate", value: await file("certificate") },
                { name: "private", value: await file("private") },
              ],
            },
          },
          done,
        );
      case "requested":
        return requested.mutate(order, done);
      default:
        return selfSigned.mutate({ ...order, life: text("life") }, done);
    }
  };
  const changes = [authority, brought, requested, selfSigned];
  const error = changes.find((c) => c.error)?.error;
  return (
    <Dialog title={`A certificate in ${drawer}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)} autoComplete="off">
        <Choice label="What it is" value={what} onChange={(e) => setWhat(e.target.value)} options={whats} />
        <NameField />
        {brings && <Files />}
        {what === "authority" && <AuthorityFields drawer={drawer} />}
        {(what === "requested" || what === "self-signed") && (
          <Field
            label="Names"
            name="names"
            required
            className="name"
            placeholder="tickets.ferries.example"
            hint="Several with a space between."
          />
        )}
        {!brings && <Choice label="Type of key" name="key_type" options={keyChoices} />}
        {(what === "authority" || what === "self-signed") && (
          <Field
            key={what}
            label="Life"
            name="life"
            required
            className="name"
            defaultValue={what === "authority" ? "3650d" : "365d"}
            hint="In days, such as 365d. It is due before it ends."
          />
        )}
        <Field label="Description" name="description" maxLength={limits?.description} hint="Everyone who may list the drawer reads this." />
        <SubjectField
          label="Owner"
          name="owner"
          kinds={["person", "team"]}
          required={Boolean(rules?.owner)}
          placeholder="person:harbour-master"
          hint="Who answers for it, and is told before it ends."
        />
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action={brings ? "Bring it" : "Create it"} busy={changes.some((c) => c.isPending)} />
      </form>
    </Dialog>
  );
}

function AuthorityFields({ drawer }: { drawer: string }) {
  return (
    <>
      <Field label="Its name in certificates" name="subject" required maxLength={64} placeholder="Harbour gates" />
      <Field
        label="May sign for"
        name="within"
        className="name"
        placeholder="harbour.example"
        hint="Host names, each with all below it, and networks. Empty for any: then a mistake, or a thief, can certify anything."
      />
      <Field
        label="Certified by"
        name="under"
        className="name"
        placeholder={`${drawer}/AUTHORITY`}
        hint="Another authority of the chest, which others trust already. Empty for none: it stands by itself."
      />
    </>
  );
}

function Files() {
  return (
    <>
      <Field
        label="Certificate, with those that it leads to"
        name="certificate"
        type="file"
        required
        className="file-input"
        hint="In PEM, in any order."
      />
      <Field
        label="Private key"
        name="private"
        type="file"
        required
        className="file-input"
        hint="In PEM, without a passphrase. Destroy the file afterwards: whoever has it has the key."
      />
    </>
  );
}
