import { ArrowDown, ArrowUp } from "lucide-react";
import { useDeferredValue, useEffect, useState, type ReactNode } from "react";
import { Scroll } from "./Scroll";

// Column is one of a table. What has sort can be sorted by it; a head that is hidden is read out only.
export type Column<T> = {
  head: string;
  hidden?: boolean;
  className?: string;
  sort?: (row: T) => string | number;
  cell: (row: T) => ReactNode;
};

type TableProps<T> = {
  label: string;
  rows: T[];
  columns: (Column<T> | false)[];
  id: (row: T) => string;
  find?: (row: T) => string; // what the filter looks in; none for a table without one
  rowClass?: (row: T) => string;
  caption?: ReactNode;
  all?: boolean; // rows that come a page at a time are shown whole
  onFound?: (ids: string[] | undefined) => void; // told which rows the filter leaves; undefined for all
};

const window = 50;

// Table shows rows a window at a time, with a filter once there are many, sorted by a press on a column's head. In a narrow place each row
// is a card, in which every value has its column's head beside it.
export function Table<T>({ label, rows, columns, id, find, rowClass, caption, all, onFound }: TableProps<T>) {
  const shown = columns.filter((c) => c !== false);
  const [typed, setTyped] = useState("");
  const [most, setMost] = useState(all ? Infinity : window);
  const [order, setOrder] = useState<{ head: string; down: boolean }>();
  const words = useDeferredValue(typed).toLowerCase().split(/\s+/).filter(Boolean);
  const found =
    find && words.length > 0
      ? rows.filter((row) => {
          const text = find(row).toLowerCase();
          return words.every((w) => text.includes(w));
        })
      : rows;
  const foundIds = words.length > 0 ? found.map(id).join("\n") : undefined;
  useEffect(() => onFound?.(foundIds?.split("\n")), [foundIds, onFound]);
  const by = shown.find((c) => c.head === order?.head)?.sort;
  const sorted = by && order ? [...found].sort((a, b) => compare(by(a), by(b)) * (order.down ? -1 : 1)) : found;
  return (
    <div className="grid min-w-0 grid-cols-1 gap-2">
      {find && (rows.length > 12 || typed) && (
        <div className="flex flex-wrap items-center gap-3">
          <input
            type="search"
            className="input input-sm w-64 max-w-full"
            placeholder="Filter"
            aria-label={`Filter: ${label}`}
            value={typed}
            onChange={(e) => {
              setTyped(e.target.value);
              setMost(window);
            }}
          />
          <span role="status" className="muted text-sm tabular-nums">
            {typed ? `${found.length} of ${rows.length}` : rows.length}
          </span>
          {caption}
        </div>
      )}
      <Scroll label={label}>
        <table className="dense stack table">
          <thead>
            <tr>
              {shown.map((c) => (
                <Head key={c.head} column={c} order={order} onOrder={setOrder} />
              ))}
            </tr>
          </thead>
          <tbody>
            {sorted.slice(0, most).map((row) => (
              <tr key={id(row)} className={rowClass?.(row)}>
                {shown.map((c) => (
                  <td key={c.head} data-label={c.hidden ? "" : c.head} className={c.className}>
                    <div className="min-w-0">{c.cell(row)}</div>
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
      {sorted.length === 0 && (
        <p className="muted" role="status">
          {typed ? `Nothing matches “${typed}”.` : "None."}
        </p>
      )}
      {sorted.length > most && (
        <p className="hidden print:block">
          The first {most} of {sorted.length}.
        </p>
      )}
      {sorted.length > most && (
        <button type="button" className="btn btn-outline btn-sm justify-self-start" onClick={() => setMost(most + 4 * window)}>
          Show more: {Math.min(4 * window, sorted.length - most)} of {sorted.length - most}
        </button>
      )}
    </div>
  );
}

type HeadProps<T> = {
  column: Column<T>;
  order?: { head: string; down: boolean };
  onOrder: (order: { head: string; down: boolean }) => void;
};

function Head<T>({ column, order, onOrder }: HeadProps<T>) {
  const now = order?.head === column.head ? order : undefined;
  if (column.hidden)
    return (
      <th scope="col">
        <span className="sr-only">{column.head}</span>
      </th>
    );
  if (!column.sort)
    return (
      <th scope="col" className={column.className}>
        {column.head}
      </th>
    );
  const Icon = now?.down ? ArrowDown : ArrowUp;
  return (
    <th scope="col" className={column.className} aria-sort={now ? (now.down ? "descending" : "ascending") : "none"}>
      <button
        type="button"
        className="group inline-flex cursor-pointer items-center gap-1"
        onClick={() => onOrder({ head: column.head, down: now ? !now.down : false })}
      >
        {column.head}
        <Icon className={`size-3.5 ${now ? "" : "opacity-0 group-hover:opacity-60 group-focus-visible:opacity-60"}`} aria-hidden />
      </button>
    </th>
  );
}

const compare = (a: string | number, b: string | number) =>
  typeof a === "number" && typeof b === "number" ? a - b : String(a).localeCompare(String(b));
