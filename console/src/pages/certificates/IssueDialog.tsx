import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { useIssueCertificate } from "../../api/certificates";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Area, Choice, Field } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
import { IssuedDialog } from "./IssuedDialog";
import { LifeField } from "./LifeField";
import { keyTypes as all, listOf } from "./words";

type IssueDialogProps = { drawer: string; profile: string; keyTypes?: string[]; longest: string; onClose: () => void };

// IssueDialog has a certificate issued: for a key that is made in the chest and goes into an item, or for one that is elsewhere.
export function IssueDialog({ drawer, profile, keyTypes, longest, onClose }: IssueDialogProps) {
  const issue = useIssueCertificate(drawer, profile);
  const navigate = useNavigate();
  const [way, setWay] = useState("into");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const life = text("life");
    issue.mutate(
      {
        ...(life && { life }),
        ...(way === "request"
          ? { request: text("request") }
          : { names: listOf(text("names")), key_type: text("key_type"), into: `${drawer}/${text("into")}` }),
      },
      { onSuccess: (made) => made.item && void navigate(`/drawers/${made.item.reference}`) },
    );
  };
  const made = issue.data && !issue.data.item ? issue.data : undefined;
  if (made)
    return (
      <IssuedDialog
        title={`A certificate for ${made.facts.names.join(", ") || made.facts.common_name}`}
        text={made.certificate}
        what="the certificate"
        file={`${made.facts.names[0] ?? "certificate"}.pem`}
        onClose={onClose}
      >
        <p>It has been issued, until {made.facts.not_after?.slice(0, 10)}. It is public, and not kept in the chest.</p>
      </IssuedDialog>
    );
  return (
    <Dialog title={`Issue a certificate by ${profile}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <Choice
          label="The key"
          value={way}
          onChange={(e) => setWay(e.target.value)}
          options={[
            { value: "into", text: "is made in the chest, and kept with the certificate" },
            { value: "request", text: "is elsewhere: I have a request for it" },
          ]}
        />
        {way === "request" ? (
          <Area
            label="Request"
            name="request"
            required
            rows={8}
            placeholder="-----BEGIN CERTIFICATE REQUEST-----"
            hint="PKCS #10, in PEM. It says for which names."
          />
        ) : (
          <>
            <Field
              label="Names"
              name="names"
              required
              className="name"
              placeholder="gate-1.harbour.example"
              hint="Several with a space between."
            />
            <NameField
              label="Item that it goes into"
              name="into"
              hint={`A name in ${drawer}. Of one that exists, it is the new version.`}
            />
            <Choice label="Type of key" name="key_type" options={(keyTypes ?? all).map((value) => ({ value, text: value }))} />
          </>
        )}
        <LifeField longest={longest} />
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons onClose={onClose} action="Issue it" busy={issue.isPending} />
      </form>
    </Dialog>
  );
}
