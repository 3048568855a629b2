// strength says in a word how hard a text is to guess, generously: by its length, how many different characters it has, and
// their kinds. The chest looks again when it is stored.
export function strength(text: string): { state: string; word: string } | undefined {
  if (!text) return undefined;
  const kinds = [/[0-9]/, /[a-z]/, /[A-Z]/, /[^0-9a-zA-Z]/].map((kind, i) => (kind.test(text) ? ([10, 26, 26, 32][i] ?? 0) : 0));
  const alphabet = kinds.reduce((sum, size) => sum + size, 0);
  const bits = Math.min(text.length, 2 * new Set(text).size) * Math.log2(alphabet);
  if (bits < 40) return { state: "ended", word: "easy to guess" };
  return bits < 70 ? { state: "due", word: "not easy to guess" } : { state: "usable", word: "hard to guess" };
}
