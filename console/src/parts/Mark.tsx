import {
  ArchiveX,
  Ban,
  Check,
  CircleDashed,
  Clock,
  Flame,
  Hourglass,
  Infinity as Endless,
  Lock,
  Minus,
  Moon,
  Pause,
  Plus,
  TriangleAlert,
  X,
} from "lucide-react";
import type { LucideIcon } from "lucide-react";

// A state has a word, a shape and a colour, so that no one of them is needed.
const marks: Record<string, [LucideIcon, string]> = {
  usable: [Check, "text-success"],
  current: [Check, "text-success"],
  due: [Hourglass, "text-warning"],
  waiting: [Clock, "text-info"],
  ended: [Ban, "text-error"],
  grace: [Hourglass, "text-error"],
  idle: [Moon, "text-warning"],
  overdue: [Ban, "text-error"],
  empty: [CircleDashed, "text-secondary"],
  allowed: [Check, "text-success"],
  refused: [X, "text-error"],
  failed: [TriangleAlert, "text-warning"],
  active: [Check, "text-success"],
  suspended: [Pause, "text-warning"],
  staged: [Clock, "text-info"],
  retired: [ArchiveX, "text-secondary"],
  shredded: [Flame, "text-secondary"],
  endless: [Endless, "text-warning"],
  set_aside: [Pause, "text-secondary"],
  open: [Clock, "text-info"],
  declined: [X, "text-error"],
  withdrawn: [Ban, "text-secondary"],
  closed: [Lock, "text-error"],
  gains: [Plus, "text-success"],
  loses: [Minus, "text-error"],
  altered: [Clock, "text-warning"],
};

export function Mark({ state, word }: { state: string; word?: string }) {
  const [Icon, colour] = marks[state] ?? [CircleDashed, "text-secondary"];
  return (
    <span className={`inline-flex items-center gap-1 align-bottom font-semibold whitespace-nowrap ${colour}`}>
      <Icon className="size-4" strokeWidth={2.5} aria-hidden />
      {word ?? state}
    </span>
  );
}

export function Environment({ of }: { of: string }) {
  const production = of === "production";
  return <span className={`badge badge-sm font-sans font-semibold ${production ? "badge-primary" : "badge-outline"}`}>{of}</span>;
}
