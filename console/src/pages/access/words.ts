// words put actions together as people think of them; strong ones are those that give values or access away.
export const words = [
  { word: "reads", actions: ["read_value", "use_key"], strong: true },
  { word: "grants", actions: ["grant"], strong: true },
  { word: "manages", actions: ["change_item", "retire", "shred", "change_rules"], strong: false },
  { word: "writes", actions: ["write_version"], strong: false },
  { word: "audits", actions: ["read_trail"], strong: false },
  { word: "sees", actions: ["list", "see_metadata"], strong: false },
];
