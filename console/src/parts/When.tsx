import { useSyncExternalStore } from "react";

type WhenProps = { at?: string; none?: string; lasting?: boolean; dated?: boolean };

// When shows a time as a distance from now, with lasting as for how long it has been, with dated with its day. The exact time is in its
// title, on paper, and instead of the distance while the viewer wants exact times.
export function When({ at, none = "never", lasting = false, dated = false }: WhenProps) {
  const now = useSyncExternalStore(subscribe, () => clock.now);
  const exactly = useExactTimes();
  if (!at) return <span className="muted">{none}</span>;
  const exact = new Date(at).toISOString().replace(/\.\d+Z$/, "Z");
  const far = lasting ? length(now - new Date(at).getTime()) : distance(new Date(at).getTime() - now);
  return (
    <time dateTime={at} title={exact} className="whitespace-nowrap">
      <span className="print:hidden">{exactly ? exact : dated ? `${exact.slice(0, 10)}, ${far}` : far}</span>
      <span className="hidden print:inline" aria-hidden>
        {exact}
      </span>
    </time>
  );
}

// One clock for the page, which moves twice a minute while somebody looks at it; and whether exact times are wanted.
const clock = { now: Date.now(), exact: localStorage.getItem("times") === "exact" };
const listeners = new Set<() => void>();
const tell = () => listeners.forEach((listener) => listener());
setInterval(() => {
  clock.now = Date.now();
  tell();
}, 30_000);

function subscribe(listener: () => void) {
  clock.now = Date.now();
  listeners.add(listener);
  return () => listeners.delete(listener);
}

export const useExactTimes = () => useSyncExternalStore(subscribe, () => clock.exact);

export function setExactTimes(exact: boolean) {
  clock.exact = exact;
  localStorage.setItem("times", exact ? "exact" : "far");
  tell();
}

const units: [string, number][] = [
  ["day", 86_400_000],
  ["hour", 3_600_000],
  ["minute", 60_000],
];

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
