import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useIssueCredential } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Area, Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { ShownOnce } from "../../parts/ShownOnce";
import { proofs } from "./words";

type Kind = Schemas["Credential"]["kind"];

const ofApps: Kind[] = ["key", "host", "issuer", "certificate", "appsecret"];

// ProofDialog gives somebody one more thing to prove themselves with, and shows what is secret in it, once.
export function ProofDialog({ subject, onClose }: { subject: string; onClose: () => void }) {
  const issue = useIssueCredential(subject);
  const kinds: Kind[] = subject.startsWith("app:") ? ofApps : ["enrol"];
  const [kind, setKind] = useState<Kind>(kinds[0] ?? "enrol");
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const body = read(kind, (name) => String(form.get(name) ?? "").trim());
    setWrong(typeof body === "string" ? body : "");
    if (typeof body !== "string") issue.mutate(body);
  };
  if (issue.data) {
    return (
      <Dialog title={issue.data.secret ? "Issued" : "Registered"} onClose={onClose}>
        {issue.data.secret ? <ShownOnce issued={issue.data} subject={subject} /> : <p role="status"><span className="name">{subject}</span> can prove itself this way from now on. Nothing secret was made.</p>}
        <div className="mt-4 flex justify-end"><button type="button" className="btn btn-primary" onClick={onClose}>{issue.data.secret ? "Done, I have it" : "Done"}</button></div>
      </Dialog>
    );
  }
  return (
    <Dialog title={`How ${subject} proves itself`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        {kinds.length > 1 && <Choice label="By" name="kind" value={kind} onChange={(e) => setKind(e.target.value as Kind)} options={kinds.map((k) => ({ value: k, text: proofs[k].name }))} />}
        <p className="muted">{proofs[kind].about}</p>
        {kind === "key" && <Area label="Public key" name="public_key" required hint="A JSON Web Key: the public half only." />}
        {kind === "certificate" && <Area label="Certificate" name="certificate" required hint="In PEM form." />}
        {kind === "host" && <Field label="From networks" name="networks" className="name" hint="Such as 10.20.0.0/16; several with commas between; empty for anywhere." />}
        {kind === "issuer" && <>
          <Field label="Issuer" name="issuer" required className="name" hint="Its address, exactly as its tokens have it." />
          <Field label="Audience" name="audience" required className="name" hint="To whom its tokens must be made out, exactly." />
          <Area label="Claims" name="claims" required hint="What its tokens must say exactly, one to a line: sub=job:ledger" />
        </>}
        {wrong && <p role="alert" className="text-error font-semibold">{wrong}</p>}
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons onClose={onClose} action={proofs[kind].action} busy={issue.isPending} />
      </form>
    </Dialog>
  );
}

// read makes the request of a form, or says what is wrong in it.
function read(kind: Kind, text: (name: string) => string): Schemas["NewCredential"] | string {
  switch (kind) {
    case "key":
      try {
        return { kind, public_key: JSON.parse(text("public_key")) as Record<string, unknown> };
      } catch {
        return "The public key is no JSON.";
      }
    case "certificate":
      return { kind, certificate: text("certificate") };
    case "host": {
      const networks = text("networks").split(",").map((n) => n.trim()).filter(Boolean);
      return networks.length > 0 ? { kind, networks } : { kind };
    }
    case "issuer": {
      const claims: Record<string, string> = {};
      for (const line of text("claims").split("\n").filter((l) => l.trim())) {
        const at = line.indexOf("=");
        if (at < 1) return `“${line}” is not of the form name=value.`;
        claims[line.slice(0, at).trim()] = line.slice(at + 1).trim();
      }
      return { kind, issuer: text("issuer"), audience: text("audience"), claims };
    }
    default:
      return { kind };
  }
}
