import type { Schemas } from "../api/client";

type Rules = Schemas["Rules"];

// ruleLines says what is demanded, a sentence each.
export function ruleLines(r: Rules): string[] {
  const lines: [unknown, string][] = [
    [r.max_age, `A version is served for ${r.max_age} after it is made.`],
    [r.needs_end, "A new version must have an end."],
    [r.warn, `A version is due ${r.warn} before its end.`],
    [r.grace, `It is served for ${r.grace} after its end, and each read is marked.`],
    [r.host_keeps, `An agent on a host keeps it, and serves it for ${r.host_keeps} while the chest is away.`],
    [r.idle, `An item that nobody reads for ${r.idle} is not served until it is resumed.`],
    [r.keep, `${r.keep} versions are kept; older ones are shredded when one is added.`],
    [r.owner, r.owner === "any" ? "Each item has an owner." : `A ${r.owner} owns each item.`],
    [r.recipe, `Values are made up by ${r.recipe}.`],
    [r.retire_for, `An item is retired for ${r.retire_for} before it can be shredded.`],
    [r.two_to_shred, "A second person agrees before anything is shredded."],
  ];
  return lines.filter(([is]) => is).map(([, text]) => text);
}

// effectLines says what rules do to one item; stops is told by who shows it.
export function effectLines(it: Schemas["RuledItem"]): string[] {
  const lines: string[] = [];
  if (it.again && it.again.length > 0) lines.push(`refused now, and served again: version ${it.again.join(", ")}`);
  if (it.due) lines.push("becomes due");
  if (it.surplus && it.surplus.length > 0) lines.push(`the next version shreds version ${it.surplus.join(", ")}`);
  if (it.no_end) lines.push("its next version needs an end");
  if (it.ownerless) lines.push("needs another owner");
  return lines;
}
