import type { FormEvent } from "react";
import { useIssueCertificate } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Area, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";
import { IssuedDialog } from "./IssuedDialog";
import { LifeField } from "./LifeField";
import { listOf } from "./words";

type IssueSSHDialogProps = { drawer: string; profile: string; gives: Schemas["CertificateProfile"]; onClose: () => void };

// IssueSSHDialog has a public key certified for SSH.
export function IssueSSHDialog({ drawer, profile, gives, onClose }: IssueSSHDialogProps) {
  const issue = useIssueCertificate(drawer, profile);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const life = text("life");
    issue.mutate({ public_key: text("public_key"), names: listOf(text("names")), ...(life && { life }) });
  };
  const made = issue.data;
  if (made)
    return (
      <IssuedDialog
        title={`A certificate for ${made.facts.names.join(", ")}`}
        text={made.certificate}
        what="the certificate"
        file="id_ed25519-cert.pub"
        onClose={onClose}
      >
        <p>
          It ends <When at={made.facts.not_after ?? ""} />. It is public: keep it beside the private key, as{" "}
          <span className="name">id_ed25519-cert.pub</span> beside <span className="name">id_ed25519</span>, where ssh finds it.
        </p>
      </IssuedDialog>
    );
  return (
    <Dialog title={`Issue a certificate by ${profile}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <Area
          label="Public key"
          name="public_key"
          required
          rows={4}
          placeholder="ssh-ed25519 AAAA…"
          hint="The line in id_ed25519.pub. The private key stays where it is."
        />
        <Field
          label={gives.ssh === "host" ? "Host names" : "Accounts"}
          name="names"
          required
          className="name"
          hint={`Of ${gives.principals?.join(", ")}. Several with a space between.`}
        />
        <LifeField longest={gives.longest} />
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons onClose={onClose} action="Issue it" busy={issue.isPending} />
      </form>
    </Dialog>
  );
}
