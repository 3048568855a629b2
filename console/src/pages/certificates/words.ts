import type { Schemas } from "../../api/client";

// keyTypes are those that certificates are for; the first is what everything takes.
export const keyTypes = ["ecdsa-p256", "ecdsa-p384", "ecdsa-p521", "rsa-2048", "rsa-3072", "rsa-4096", "ed25519"];

export const keyChoices = keyTypes.map((value, n) => ({ value, text: n === 0 ? `${value}: everything takes it` : value }));

export const usages = [
  { value: "server", text: "server: others connect to it by TLS" },
  { value: "client", text: "client: it connects to others by TLS" },
  { value: "code", text: "code: it signs programs" },
  { value: "mail", text: "mail: it signs and decrypts mail" },
];

export const reasons: { value: Schemas["RevocationReason"]; text: string }[] = [
  { value: "unspecified", text: "no reason is given" },
  { value: "key_compromise", text: "somebody else may have its key" },
  { value: "superseded", text: "another one has taken its place" },
  { value: "cessation_of_operation", text: "what it was for has ended" },
  { value: "affiliation_changed", text: "its holder has another name or place" },
  { value: "privilege_withdrawn", text: "its holder may not have it any more" },
];

// namesOf are all the names that a profile gives.
export const namesOf = (p: Schemas["CertificateProfile"]) => [
  ...(p.names ?? []),
  ...(p.principals ?? []),
  ...(p.jwt?.audiences ?? []),
  ...(p.networks ?? []),
  ...(p.uris ?? []),
  ...(p.mail ?? []),
  ...(p.subjects ?? []),
];

// listOf reads a field in which people separate several with spaces or commas.
export const listOf = (text: string) => text.split(/[\s,]+/).filter(Boolean);
