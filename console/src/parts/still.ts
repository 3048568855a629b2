import { useState } from "react";

// useStill keeps a list as it stood when somebody began to read it, so that no row moves under their hand: rows that are there still are
// brought up to date where they stand, those that are gone stay and say so, and those that are new wait until they are asked for.
export function useStill<T>(now: T[], id: (row: T) => string) {
  const [stood, setStood] = useState<T[]>();
  const current = new Map(now.map((row) => [id(row), row]));
  const rows = (stood ?? now).map((row) => ({ row: current.get(id(row)) ?? row, gone: !current.has(id(row)) }));
  const known = new Set((stood ?? now).map(id));
  if (stood === undefined && now.length > 0) setStood(now);
  return { rows, fresh: now.filter((row) => !known.has(id(row))).length, renew: () => setStood(now) };
}
