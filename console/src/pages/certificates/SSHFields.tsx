import type { Schemas } from "../../api/client";
import { Field } from "../../parts/Field";
import { listOf } from "./words";

// SSHFields ask which certificates of SSH a key signs.
export function SSHFields({ of: p, user }: { of?: Schemas["CertificateProfile"]; user: boolean }) {
  return (
    <>
      <Field
        label={user ? "Accounts" : "Host names"}
        name="principals"
        required
        className="name"
        defaultValue={p?.principals?.join(" ")}
        placeholder={user ? "deploy gate-*" : "*.harbour.example"}
        hint="Patterns of the principals; * is anything."
      />
      {user && (
        <>
          <Field
            label="Permits"
            name="extensions"
            className="name"
            defaultValue={p ? p.extensions?.join(" ") : "permit-pty"}
            hint="Besides running programs: permit-pty for a terminal, permit-port-forwarding, permit-agent-forwarding."
          />
          <Field
            label="From networks"
            name="networks"
            className="name"
            defaultValue={p?.networks?.join(" ")}
            hint="Such as 10.1.0.0/16. Empty for any."
          />
          <Field
            label="Command"
            name="command"
            className="name"
            defaultValue={p?.command}
            hint="That is run, whatever they ask for. Empty for any."
          />
        </>
      )}
    </>
  );
}

// sshOf reads them.
export function sshOf(form: FormData): Partial<Schemas["CertificateProfile"]> {
  const text = (name: string) => String(form.get(name) ?? "").trim();
  const list = (name: string) => {
    const items = listOf(text(name));
    return items.length > 0 ? items : undefined; // which JSON leaves out
  };
  return {
    principals: list("principals"),
    extensions: list("extensions"),
    networks: list("networks"),
    command: text("command") || undefined,
  };
}
