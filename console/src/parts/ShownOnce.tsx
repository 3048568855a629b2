import { KeyRound } from "lucide-react";
import type { Schemas } from "../api/client";
import { Copy } from "./Copy";
import { When } from "./When";

const names: Record<string, string> = {
  appsecret: "Client secret",
  enrol: "Enrolment code",
  host: "Code for a host",
  acme: "Key for ACME accounts",
};

// ShownOnce shows a credential that the chest keeps only as a hash.
export function ShownOnce({ issued, subject }: { issued: Schemas["Issued"]; subject: string }) {
  return (
    <div className="grid gap-3" role="status">
      <p className="flex items-center gap-2">
        <KeyRound className="size-5" aria-hidden /> {names[issued.kind]} of <b className="name">{subject}</b>
      </p>
      <div className="bg-base-300 rounded-field flex items-start justify-between gap-2 p-3">
        <code className="name">{issued.secret}</code>
        <Copy text={issued.secret} what="it" />
      </div>
      {issued.kind === "acme" && (
        <p>
          A client registers with it as <span className="name">{issued.id}</span> (certbot: --eab-kid) and this key (--eab-hmac-key).
        </p>
      )}
      <p className="muted text-sm">
        It is shown only once.{" "}
        {issued.not_after && (
          <>
            It ends <When at={issued.not_after} />.
          </>
        )}
      </p>
    </div>
  );
}
