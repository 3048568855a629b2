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
