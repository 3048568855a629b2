import { useSyncExternalStore } from "react";

// When shows a time as a distance from now, with the exact time on hover and for screen readers.
export function When({ at, none = "never" }: { at?: string; none?: string }) {
  const now = useSyncExternalStore(subscribe, () => clock.now);
  if (!at) return <span className="muted">{none}</span>;
  const exact = new Date(at).toISOString().replace(/\.\d+Z$/, "Z");
  return (
    <time dateTime={at} title={exact} className="whitespace-nowrap">
      {distance(new Date(at).getTime() - now)}
    </time>
  );
}

// One clock for the page, which moves twice a minute while somebody looks at it.
const clock = { now: Date.now() };
const listeners = new Set<() => void>();
setInterval(() => {
  clock.now = Date.now();
  for (const listener of listeners) listener();
}, 30_000);

function subscribe(listener: () => void) {
  clock.now = Date.now();
  listeners.add(listener);
  return () => listeners.delete(listener);
}

const units: [string, number][] = [["day", 86_400_000], ["hour", 3_600_000], ["minute", 60_000]];

function distance(milliseconds: number): string {
  const size = Math.abs(milliseconds);
  for (const [unit, length] of units) {
    if (size >= length * 0.99) {
      const count = Math.round(size / length);
      const text = `${count} ${unit}${count === 1 ? "" : "s"}`;
      return milliseconds < 0 ? `${text} ago` : `in ${text}`;
    }
  }
  return milliseconds < 0 ? "just now" : "in a moment";
}
