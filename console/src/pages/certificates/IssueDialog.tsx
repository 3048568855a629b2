import { useState, type FormEvent } from "react";
import { useNavigate } from "react-router";
import { useIssueCertificate } from "../../api/certificates";
import { Copy } from "../../parts/Copy";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { save } from "../../parts/download";
import { Area, Choice, Field } from "../../parts/Field";
import { NameField } from "../../parts/NameField";
import { ProblemBox } from "../../parts/ProblemBox";
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
      <Dialog title={`A certificate for ${made.facts.names.join(", ") || made.facts.common_name}`} settled onClose={onClose}>
        <div className="grid gap-4" role="status">
          <p>It has been issued, until {made.facts.not_after?.slice(0, 10)}. It is public, and not kept in the chest.</p>
          <div className="flex justify-end gap-2">
            <Copy text={made.certificate} what="the certificate" />
            <button
              type="button"
              className="btn btn-outline"
              onClick={() => save(`${made.facts.names[0] ?? "certificate"}.pem`, made.certificate, "text/plain")}
            >
              Save it
            </button>
            <button type="button" className="btn btn-primary" onClick={onClose}>
              Close
            </button>
          </div>
        </div>
      </Dialog>
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
        <Field
          label="Life"
          name="life"
          className="name"
          placeholder={longest}
          hint={`Up to ${longest}, which it is when this is left empty.`}
        />
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons onClose={onClose} action="Issue it" busy={issue.isPending} />
      </form>
    </Dialog>
  );
}
