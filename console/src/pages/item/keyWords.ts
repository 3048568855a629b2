import type { Schemas } from "../../api/client";
import type { Action } from "../../api/may";

const words: Record<string, string> = {
  sign: "sign",
  verify: "verify",
  encrypt: "encrypt",
  decrypt: "decrypt",
  wrapKey: "wrap keys",
  unwrapKey: "unwrap keys",
  deriveBits: "agree on secrets",
};

// operations says what a key is for (RFC 7517, section 4.3) in words.
export const operations = (ops: string[]) => ops.map((op) => words[op] ?? op).join(", ");

// WhatIsAsked is about whom somebody asks: who has an action on a target, and in a word.
export type WhatIsAsked = { target: string; action: Action; word: string };

// asking says what to ask about an item: who reads it, or, of a key that stays in the chest, who does the most with it.
export function asking({ key, kind, certificate }: Schemas["Item"]): Omit<WhatIsAsked, "target"> {
  if (kind === "authority") return { action: "change_rules", word: "make profiles of" };
  if (kind === "profile") return { action: "issue", word: certificate?.profile?.jwt ? "have a token by" : "have a certificate by" };
  if (!key || key.given_out) return { action: "read_value", word: "read" };
  const ops = key.key_ops;
  if (ops.includes("sign")) return { action: "sign", word: "sign with" };
  if (ops.includes("encrypt") && !ops.includes("decrypt")) return { action: "encrypt", word: "encrypt with" };
  return { action: "decrypt", word: "decrypt with" };
}
