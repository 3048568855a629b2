const uses = ["encrypt", "decrypt", "sign", "verify"];

// briefly names actions for people: all uses of a key together, as roles mostly have them, are one.
export function briefly(actions: string[]): string[] {
  const all = uses.every((use) => actions.includes(use));
  const named = all ? actions.flatMap((a) => (a === "encrypt" ? ["use_keys"] : uses.includes(a) ? [] : [a])) : actions;
  return named.map((a) => a.replaceAll("_", " "));
}

export const actionsText = (actions: string[]) => briefly(actions).join(", ");
