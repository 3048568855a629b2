import { useSyncExternalStore } from "react";

// When shows a time as a distance from now, with the exact time on hover and for screen readers; with lasting, as for how long it is.
export function When({ at, none = "never", lasting = false }: { at?: string; none?: string; lasting?: boolean }) {
  const now = useSyncExternalStore(subscribe, () => clock.now);
  if (!at) return <span className="muted">{none}</span>;
  const exact = new Date(at).toISOString().replace(/\.\d+Z$/, "Z");
  return (
    <time dateTime={at} title={exact} className="whitespace-nowrap">
      {lasting ? length(now - new Date(at).getTime()) : distance(new Date(at).getTime() - now)}
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

function counted(size: number): string | undefined {
  for (const [unit, one] of units) {
    if (size >= one * 0.99) {
      const count = Math.round(size / one);
      return `${count} ${unit}${count === 1 ? "" : "s"}`;
    }
  }
  return undefined;
}

function distance(milliseconds: number): string {
  const text = counted(Math.abs(milliseconds));
  if (milliseconds < 0) return text ? `${text} ago` : "just now";
  return text ? `in ${text}` : "in a moment";
}

const length = (milliseconds: number): string => `for ${counted(milliseconds) ?? "a moment"}`;
