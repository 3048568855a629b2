import type { ReactNode } from "react";
import type { Schemas } from "../../api/client";
import { Copy } from "../../parts/Copy";
import { When } from "../../parts/When";

// Facts lists what a certificate says, and what else there is to say of it.
export function Facts({ of: c, children }: { of: Schemas["Certificate"]; children?: ReactNode }) {
  return (
    <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
      <Fact name="For">{c.names.join(", ")}</Fact>
      <Fact name="Subject">{c.subject}</Fact>
      <Fact name="Issued by">{c.self_signed ? "itself" : c.issuer}</Fact>
      <Fact name="Valid">{c.not_after && <Span of={c} />}</Fact>
      <Fact name="Type of key">{c.key_type}</Fact>
      <Fact name="For use as">{c.usages.join(", ")}</Fact>
      <Fact name="May sign for">{c.within?.join(", ")}</Fact>
      <Fact name="Authorities below">{c.path_length === undefined ? undefined : c.path_length === 0 ? "none" : `${c.path_length}`}</Fact>
      <Fact name="Serial number">
        {c.serial && (
          <span className="inline-flex flex-wrap items-center gap-2">
            <span className="name text-sm break-all">{c.serial}</span> <Copy text={c.serial} what="the serial number" />
          </span>
        )}
      </Fact>
      <Fact name="Fingerprint">
        {c.fingerprint && (
          <span className="inline-flex flex-wrap items-center gap-2">
            <span className="name text-sm break-all">{c.fingerprint.slice(0, 32)}…</span>{" "}
            <Copy text={c.fingerprint} what="the fingerprint" />
          </span>
        )}
      </Fact>
      {children}
    </dl>
  );
}

function Span({ of: c }: { of: Schemas["Certificate"] }) {
  return (
    <>
      until {c.not_after?.slice(0, 10)}, which is <When at={c.not_after} />; since {c.not_before?.slice(0, 10)}
    </>
  );
}

// Fact is one line; nothing, where there is nothing to say.
export function Fact({ name, children }: { name: string; children: ReactNode }) {
  if (children === undefined || children === "" || children === null) return null;
  return (
    <>
      <dt className="muted">{name}</dt>
      <dd className="min-w-0">{children}</dd>
    </>
  );
}
