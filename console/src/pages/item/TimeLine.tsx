import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Mark } from "../../parts/Mark";

type TimeLineProps = { versions: Schemas["Version"][]; readers: Schemas["Reader"][] };

const day = 86_400_000;
const shown = 8; // versions, the newest

type Bar = { v: Schemas["Version"]; from: number; to: number; open: boolean; readers: number };

// barsOf places each version between when it could first be served and its end.
function barsOf(versions: Schemas["Version"][], readers: Schemas["Reader"][], right: number): Bar[] {
  return versions.slice(0, shown).map((v) => {
    const from = new Date(v.not_before ?? v.created_at).getTime();
    const to = v.ends_at ? new Date(v.ends_at).getTime() : right;
    return {
      v,
      from: Math.max(from, new Date(v.created_at).getTime()),
      to,
      open: !v.ends_at,
      readers: readers.filter((r) => r.version === v.version).length,
    };
  });
}

const tones: Record<string, string> = {
  usable: "bg-success opacity-60",
  current: "bg-success",
  grace: "bg-warning",
  waiting: "bg-info",
  staged: "bg-info",
  suspended: "bg-warning",
};

// TimeLine draws the versions one under the other, over the time that each may be served, with a line at now.
export function TimeLine({ versions, readers }: TimeLineProps) {
  const [now] = useState(() => Date.now());
  const begins = versions.slice(0, shown).map((v) => new Date(v.created_at).getTime());
  const ends = versions.slice(0, shown).flatMap((v) => (v.ends_at ? [new Date(v.ends_at).getTime()] : []));
  const left = Math.min(...begins, now - day);
  const right = Math.max(...ends, now + Math.max(14 * day, (now - left) / 4));
  const at = (time: number) => `${(100 * (Math.min(Math.max(time, left), right) - left)) / (right - left)}%`;
  const date = (time: number) => new Date(time).toISOString().slice(0, 10);
  return (
    <figure className="mb-4" aria-label="When each version may be served">
      <div className="relative grid gap-1.5 pt-6 pb-1">
        <span
          className="border-base-content pointer-events-none absolute top-0 bottom-0 z-1 border-l border-dashed"
          style={{ left: `calc(9rem + (100% - 15rem) * ${(now - left) / (right - left)})` }}
        >
          <span className="bg-base-100 absolute top-0 left-1 text-sm font-semibold">now</span>
        </span>
        {barsOf(versions, readers, right).map(({ v, from, to, open, readers: count }) => {
          const state = v.current ? "current" : v.state;
          return (
            <div key={v.version} className="grid grid-cols-[9rem_1fr_6rem] items-center">
              <span className="flex items-center gap-2 text-sm">
                <span className="name">@{v.version}</span>
                <Mark state={state} />
              </span>
              <div className="bg-base-200 relative h-5" title={`${date(from)} to ${open ? "no end" : date(to)}`}>
                <span
                  className={`absolute inset-y-1 ${tones[state] ?? "bg-secondary opacity-50"} ${open ? "rounded-l-full" : "rounded-full"}`}
                  style={{ left: at(from), width: `calc(${at(to)} - ${at(from)})`, minWidth: "0.4rem" }}
                />
              </div>
              <span className="muted pl-2 text-sm whitespace-nowrap">{count > 0 && `${count} reader${count === 1 ? "" : "s"}`}</span>
            </div>
          );
        })}
      </div>
      <figcaption className="muted flex justify-between pr-24 pl-36 text-sm">
        <span>{date(left)}</span>
        <span>{date(right)}</span>
      </figcaption>
    </figure>
  );
}
