import type { Schemas } from "../../api/client";
import { Area, Field } from "../../parts/Field";
import { claimLines, claimsOf, valueOf } from "./claims";
import { listOf } from "./words";

// TokenFields ask which tokens a key signs.
export function TokenFields({ of: j }: { of?: Schemas["JWTProfile"] }) {
  const always = Object.entries(j?.always ?? {}).map(([name, value]) => `${name}=${JSON.stringify(value)}`);
  return (
    <>
      <Field
        label="Issuer"
        name="issuer"
        required
        className="name"
        defaultValue={j?.issuer}
        placeholder="https://tickets.example"
        hint="Who says it (iss)."
      />
      <Field
        label="Audiences"
        name="audiences"
        required
        className="name"
        defaultValue={j?.audiences.join(" ")}
        placeholder="gate-*"
        hint="Patterns of whom a token may be for (aud); * is anything."
      />
      <Field
        label="About"
        name="subjects"
        className="name"
        defaultValue={j?.subjects?.join(" ")}
        hint="Patterns of whom it may be about (sub). Empty for whoever asks, and nobody else."
      />
      <Area
        label="Claims that may be asked for"
        name="claims"
        rows={3}
        defaultValue={claimLines(j?.claims)}
        placeholder="scope=refunds:*"
        hint="A line each: the name, and a pattern of what it may say."
      />
      <Area
        label="Claims of each token"
        name="always"
        rows={2}
        defaultValue={always.join("\n")}
        hint="A line each: the name, and a text or JSON."
      />
      <Field
        label="Algorithm"
        name="algorithm"
        className="name"
        defaultValue={j?.algorithm}
        hint="Empty for the usual one of the key; RS256 for old peers of an RSA key."
      />
    </>
  );
}

// tokensOf reads them. A line that says nothing is left for the chest to refuse.
export function tokensOf(form: FormData): Schemas["JWTProfile"] {
  const text = (name: string) => String(form.get(name) ?? "").trim();
  const subjects = listOf(text("subjects"));
  const always = Object.entries(claimsOf(text("always")) ?? { "": [] });
  return {
    issuer: text("issuer"),
    audiences: listOf(text("audiences")),
    subjects: subjects.length > 0 ? subjects : undefined,
    claims: claimsOf(text("claims")) ?? { "": [] },
    always: Object.fromEntries(always.map(([name, list]) => [name, valueOf(list.join("\n"))])),
    algorithm: text("algorithm") || undefined,
  };
}
