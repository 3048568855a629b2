import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useIssueCredential } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { save } from "../../parts/download";
import { Area, Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { ShownOnce } from "../../parts/ShownOnce";
import { makeKey, publicKey } from "./appKey";
import { proofs } from "./words";

type Kind = NonNullable<Schemas["NewCredential"]["kind"]>;

const ofApps: Kind[] = ["key", "host", "issuer", "certificate", "acme", "appsecret"];

// ProofDialog adds a sign-in method, and shows what is secret in it, once.
export function ProofDialog({ subject, onClose }: { subject: string; onClose: () => void }) {
  const issue = useIssueCredential(subject);
  const kinds: Kind[] = subject.startsWith("app:") ? ofApps : ["enrol"];
  const [kind, setKind] = useState<Kind>(kinds[0] ?? "enrol");
  const [here, setHere] = useState(true);
  const [wrong, setWrong] = useState("");
  const [pem, setPem] = useState("");
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const made = kind === "key" && here ? await makeKey() : undefined;
    const body = made ? { kind, public_key: made.jwk } : await read(kind, (name) => String(form.get(name) ?? "").trim());
    setWrong(typeof body === "string" ? body : "");
    if (typeof body !== "string") issue.mutate(body, { onSuccess: () => setPem(made?.pem ?? "") });
  };
  if (issue.data) return <Issued issued={issue.data} subject={subject} pem={pem} onClose={onClose} />;
  return (
    <Dialog title={subject.startsWith("app:") ? `Add a sign-in method to ${subject}` : `A new password for ${subject}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        {kinds.length > 1 && (
          <Choice
            label="By"
            name="kind"
            value={kind}
            onChange={(e) => setKind(e.target.value as Kind)}
            options={kinds.map((k) => ({ value: k, text: proofs[k].name }))}
          />
        )}
        <p className="muted">{proofs[kind].about}</p>
        {kind === "key" && (
          <>
            <Choice
              label="The key pair"
              value={here ? "here" : "there"}
              onChange={(e) => setHere(e.target.value === "here")}
              options={[
                { value: "here", text: "is made in this browser, and its private half saved as a file" },
                { value: "there", text: "is there already: I have its public half" },
              ]}
            />
            {!here && <Area label="Public key" name="public_key" required hint="PEM or a JSON Web Key: the public half only." />}
          </>
        )}
        {kind === "certificate" && <Area label="Certificate" name="certificate" required hint="In PEM form." />}
        {kind === "host" && (
          <Field
            label="From networks"
            name="networks"
            className="name"
            hint="Such as 10.20.0.0/16; several with commas between; empty for anywhere."
          />
        )}
        {kind === "issuer" && (
          <>
            <Field label="Issuer" name="issuer" required className="name" hint="Its address, exactly as in its tokens." />
            <Field label="Audience" name="audience" required className="name" hint="The audience that its tokens must name, exactly." />
            <Area label="Claims" name="claims" required hint="The claims that its tokens must have, one to a line: sub=job:ledger" />
          </>
        )}
        {wrong && (
          <p role="alert" className="text-error font-semibold">
            {wrong}
          </p>
        )}
        {issue.error && <ProblemBox error={issue.error} />}
        <DialogButtons
          onClose={onClose}
          action={kind === "key" && here ? "Generate the key pair" : proofs[kind].action}
          busy={issue.isPending}
        />
      </form>
    </Dialog>
  );
}

type IssuedProps = { issued: Schemas["Issued"]; subject: string; pem: string; onClose: () => void };

// Issued shows what came of it; a secret, and the private half of a key that was made here, are not to be had again.
function Issued({ issued, subject, pem, onClose }: IssuedProps) {
  const [saved, setSaved] = useState(false);
  const file = `${subject.replace("app:", "")}.key`;
  const secret = Boolean(issued.secret);
  return (
    <Dialog title={secret || pem ? "Created" : "Added"} once={secret || (pem !== "" && !saved)} settled onClose={onClose}>
      {secret && <ShownOnce issued={issued} subject={subject} />}
      {pem && (
        <div className="grid gap-3" role="status">
          <p>The chest has the public half. The private half is in this page only, until you leave it.</p>
          <button
            type="button"
            className="btn btn-primary justify-self-start"
            onClick={() => {
              save(file, pem, "application/x-pem-file");
              setSaved(true);
            }}
          >
            Save {file}
          </button>
          <p className="muted text-sm">
            Let only the app read it (mode 0600), and set <code className="name">TANSU_APP={subject.replace("app:", "")}</code> and{" "}
            <code className="name">TANSU_KEY_FILE={file}</code>. Then remove it from where your browser saved it.
          </p>
        </div>
      )}
      {!secret && !pem && (
        <p role="status">
          <span className="name">{subject}</span> can sign in this way from now on. Nothing secret was made.
        </p>
      )}
      <div className="mt-4 flex justify-end">
        <button
          type="button"
          className={`btn ${pem && !saved ? "btn-ghost" : "btn-primary"}`}
          disabled={pem !== "" && !saved}
          onClick={onClose}
        >
          {secret ? "Done, I have it" : "Done"}
        </button>
      </div>
    </Dialog>
  );
}

// read makes the request of a form, or says what is wrong in it.
async function read(kind: Kind, text: (name: string) => string): Promise<Schemas["NewCredential"] | string> {
  switch (kind) {
    case "key": {
      const key = await publicKey(text("public_key"));
      return typeof key === "string" ? key : { kind, public_key: key };
    }
    case "certificate":
      return { kind, certificate: text("certificate") };
    case "host": {
      const networks = text("networks")
        .split(",")
        .map((n) => n.trim())
        .filter(Boolean);
      return networks.length > 0 ? { kind, networks } : { kind };
    }
    case "issuer": {
      const claims: Record<string, string> = {};
      for (const line of text("claims")
        .split("\n")
        .filter((l) => l.trim())) {
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
