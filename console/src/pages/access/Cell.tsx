import type { Schemas } from "../../api/client";
import { words } from "./words";

type CellProps = { cell: Schemas["MatrixCell"]; label: string; inline?: boolean; onOpen: () => void };

// Cell says the strongest things that somebody may do in a drawer; a press says why.
export function Cell({ cell, label, inline, onOpen }: CellProps) {
  const has = (w: (typeof words)[number]) => w.actions.some((a) => cell.actions.includes(a));
  const reads = words.find((w) => w.word === "reads" && has(w));
  const shown = words
    .filter((w) => has(w) && !(reads && w.word === "uses keys")) // whoever reads values mostly may use keys, too
    .map((w) => {
      const own = w.actions.filter((a) => cell.actions.includes(a));
      const conditional = own.every((a) => cell.conditions.includes(a));
      const partial = own.every((a) => cell.partial.includes(a));
      return { ...w, conditional, text: `${w.word}${partial ? " some" : ""}${conditional ? " if" : ""}` };
    });
  if (shown.length === 0)
    return (
      <span className="muted">
        <span aria-hidden>·</span>
        <span className="sr-only">nothing</span>
      </span>
    );
  return (
    <button
      type="button"
      className={`cursor-pointer gap-0.5 text-left ${inline ? "flex flex-wrap" : "grid"}`}
      onClick={onOpen}
      aria-label={`${label}: ${shown.map((w) => w.text).join(", ")}; why`}
    >
      {shown.map((w) => (
        <span
          key={w.word}
          className={[
            "badge badge-sm whitespace-nowrap",
            w.strong ? "badge-primary" : "badge-outline",
            w.conditional ? "border-dashed" : "",
          ].join(" ")}
        >
          {w.text}
        </span>
      ))}
    </button>
  );
}

export function Legend() {
  return (
    <p className="muted mb-3 flex flex-wrap gap-x-6 gap-y-1 text-sm">
      <span>
        <b>reads</b> values, and mostly <b>uses keys</b>
      </span>
      <span>
        <b>writes</b> versions
      </span>
      <span>
        <b>manages</b> items and rules
      </span>
      <span>
        <b>grants</b> access
      </span>
      <span>
        <b>sees</b> names and metadata
      </span>
      <span>
        <b>audits</b> the trail
      </span>
      <span>
        <b>some</b>: not everything in the drawer
      </span>
      <span>
        <b>if</b>: under conditions, or with a second person
      </span>
    </p>
  );
}
