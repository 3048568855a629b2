import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Fact } from "./Facts";

const list = (items?: string[]) => items?.join(", ");

// ProfileFacts lists what a profile gives: certificates of X.509 or of SSH, or tokens.
export function ProfileFacts({ drawer, profile: p }: { drawer: string; profile: Schemas["CertificateProfile"] }) {
  return (
    <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
      <Fact name="Signed by">
        <Link className="link name" to={`/drawers/${drawer}/${p.authority}`}>
          {p.authority}
        </Link>
      </Fact>
      {p.jwt && <TokenFacts of={p.jwt} />}
      <Fact name="For SSH, of a">{p.ssh}</Fact>
      <Fact name="Principals">{list(p.principals)}</Fact>
      <Fact name="Permits">{list(p.extensions)}</Fact>
      <Fact name="Command">{p.command}</Fact>
      <Fact name="Host names">{p.names && `${list(p.names)}${p.wildcards ? ", and all names below one" : ""}`}</Fact>
      <Fact name={p.ssh ? "From networks" : "Networks"}>{list(p.networks)}</Fact>
      <Fact name="URIs">{list(p.uris)}</Fact>
      <Fact name="Mail addresses">{list(p.mail)}</Fact>
      <Fact name="Common names">{list(p.subjects)}</Fact>
      <Fact name="For use as">{list(p.usages)}</Fact>
      <Fact name="Types of keys">{p.ssh || p.jwt ? undefined : (list(p.key_types) ?? "any that is good")}</Fact>
      <Fact name="Longest life">{p.longest}</Fact>
    </dl>
  );
}

function TokenFacts({ of: j }: { of: Schemas["JWTProfile"] }) {
  return (
    <>
      <Fact name="Issuer">{j.issuer}</Fact>
      <Fact name="Audiences">{list(j.audiences)}</Fact>
      <Fact name="About">{list(j.subjects) ?? "whoever asks"}</Fact>
      {Object.entries(j.claims ?? {}).map(([name, patterns]) => (
        <Fact key={name} name={`May say ${name}`}>
          {list(patterns)}
        </Fact>
      ))}
      {Object.entries(j.always ?? {}).map(([name, value]) => (
        <Fact key={name} name={`Says ${name}`}>
          <code className="name">{JSON.stringify(value)}</code>
        </Fact>
      ))}
      <Fact name="Type">{j.type}</Fact>
      <Fact name="Algorithm">{j.algorithm}</Fact>
    </>
  );
}
