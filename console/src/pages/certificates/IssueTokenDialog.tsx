import { useState, type FormEvent } from "react";
import { useIssueToken } from "../../api/certificates";
import type { Schemas } from "../../api/client";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Area, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";
import { claimsOf } from "./claims";
import { Fact } from "./Facts";
import { IssuedDialog } from "./IssuedDialog";
import { LifeField } from "./LifeField";
import { listOf } from "./words";

type IssueTokenDialogProps = { drawer: string; profile: Schemas["Item"]; gives: Schemas["CertificateProfile"]; onClose: () => void };

// IssueTokenDialog has a token signed. It is never shown: it is copied, and what it says is told.
export function IssueTokenDialog({ drawer, profile, gives, onClose }: IssueTokenDialogProps) {
  const issue = useIssueToken(drawer, profile.name);
  const [wrong, setWrong] = useState(false);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    const claims = claimsOf(text("claims"));
    setWrong(!claims);
    if (!claims) return;
    const life = text("life");
    const subject = text("subject");
    issue.mutate({ audiences: listOf(text("audiences")), claims, ...(life && { life }), ...(subject && { subject }) });
  };
  const claims = Object.keys(gives.jwt?.claims ?? {});
  if (issue.data)
    return (
      <IssuedDialog title="A token" text={issue.data.token} what="the token" onClose={onClose}>
        <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
          <Fact name="About">
            <span className="name">{issue.data.subject}</span>
          </Fact>
          <Fact name="For">
            <span className="name">{issue.variables.audiences.join(", ")}</span>
          </Fact>
          <Fact name="Ends">
            <When at={issue.data.not_after} />
          </Fact>
          <Fact name="In the trail as">
            <span className="name text-sm break-all">{issue.data.id}</span>
          </Fact>
        </dl>
        <p>It is a credential, and nobody can take it back. It is not kept in the chest.</p>
      </IssuedDialog>
    );
  return (
    <Dialog title={`Issue a token by ${profile.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <Field
          label="Audiences"
          name="audiences"
          required
          className="name"
          placeholder={gives.jwt?.audiences[0]?.replace("*", "3")}
          hint={`Who is to accept it: of ${gives.jwt?.audiences.join(", ")}.`}
        />
        {gives.jwt?.subjects && (
          <Field label="About" name="subject" className="name" hint={`Of ${gives.jwt.subjects.join(", ")}. Empty for you.`} />
        )}
        {claims.length > 0 && (
          <Area label="Claims" name="claims" rows={3} hint={`A line each, such as ${claims[0]}=…; it may say ${claims.join(", ")}.`} />
        )}
        {wrong && (
          <p role="alert" className="text-sm">
            Say each claim on a line, as NAME=TEXT.
          </p>
        )}
        <LifeField longest={gives.longest} />
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons onClose={onClose} action="Issue it" busy={issue.isPending} />
      </form>
    </Dialog>
  );
}
