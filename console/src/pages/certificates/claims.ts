// claimsOf reads lines of NAME=TEXT; several of a name say several things. Undefined for a line that is none.
export function claimsOf(text: string): Record<string, string[]> | undefined {
  const claims: Record<string, string[]> = {};
  for (const line of text.split("\n").map((l) => l.trim())) {
    if (!line) continue;
    const at = line.indexOf("=");
    if (at < 1) return undefined;
    (claims[line.slice(0, at)] ??= []).push(line.slice(at + 1));
  }
  return claims;
}

// claimLines is the same the other way round.
export const claimLines = (claims?: Record<string, string[]>) =>
  Object.entries(claims ?? {})
    .flatMap(([name, list]) => list.map((text) => `${name}=${text}`))
    .join("\n");

// valueOf reads what a claim says: JSON where it is some, else a text.
export function valueOf(text: string): unknown {
  try {
    return JSON.parse(text);
  } catch {
    return text;
  }
}
