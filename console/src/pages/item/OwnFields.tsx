import { Plus, X } from "lucide-react";
import { Field, Tick } from "../../parts/Field";

type OwnFieldsProps = { rows: number[]; onRows: (rows: number[]) => void };

// OwnFields asks for fields that have names of their own. What is not secret, such as a host, is shown to whoever may see the item.
export function OwnFields({ rows, onRows }: OwnFieldsProps) {
  return (
    <fieldset className="grid gap-3">
      <legend className="sr-only">Fields</legend>
      {rows.map((row, i) => (
        <div key={row} className="border-base-300 grid items-end gap-3 border-l-2 pl-3 sm:grid-cols-[1fr_1.4fr_auto]">
          <Field label={`Field ${i + 1}`} name={`own:${row}:name`} className="name" required placeholder="client-id" />
          <Field label="Value" name={`own:${row}:value`} type="password" autoComplete="new-password" className="name" required />
          <button
            type="button"
            className="btn btn-ghost btn-square"
            disabled={rows.length === 1}
            aria-label={`Without field ${i + 1}`}
            onClick={() => onRows(rows.filter((r) => r !== row))}
          >
            <X className="size-4" aria-hidden />
          </button>
          <Tick name={`own:${row}:plain`}>Not secret</Tick>
        </div>
      ))}
      <button type="button" className="btn btn-outline btn-sm justify-self-start" onClick={() => onRows([...rows, Math.max(...rows) + 1])}>
        <Plus className="size-4" aria-hidden /> One more field
      </button>
    </fieldset>
  );
}
