import { useState, type FormEvent } from "react";
import { api, data, type Schemas } from "../../api/client";
import type { TrailFilter } from "../../api/trail";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { save } from "../../parts/download";
import { Choice } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type Entry = Schemas["Entry"];

// mostSaved bounds a file that is made in the browser; tansu trail writes longer ones.
const mostSaved = 100_000;

const heads = [
  "seq",
  "at",
  "subject",
  "via",
  "action",
  "target",
  "version",
  "outcome",
  "reason",
  "grant",
  "addr",
  "stated",
  "detail",
  "receipt",
  "request_id",
] as const;

// A cell that a spreadsheet would take for a formula is made a text.
const quoted = (value: unknown) =>
  `"${String(value ?? "")
    .replace(/^[=+\-@\t]/, "'$&")
    .replaceAll('"', '""')}"`;
const csv = (entries: Entry[]) =>
  [heads.join(","), ...entries.map((e) => heads.map((name) => quoted((e as Record<string, unknown>)[name])).join(","))].join("\r\n") +
  "\r\n";
const jsonl = (entries: Entry[]) => entries.map((e) => JSON.stringify(e)).join("\n") + "\n";

async function all(filter: TrailFilter, tell: (count: number) => void): Promise<Entry[]> {
  const entries: Entry[] = [];
  for (let cursor: string | undefined; entries.length < mostSaved;) {
    const page = await data(
      api.GET("/api/trail", { params: { query: { ...filter, limit: 500, ...(cursor ? { cursor } : { cursor: undefined }) } } }),
    );
    entries.push(...page.entries);
    tell(entries.length);
    cursor = page.next_cursor;
    if (!cursor) break;
  }
  return entries;
}

// SaveTrail writes the entries that are selected into a file, as CSV for people and as JSON lines for programs.
export function SaveTrail({ filter }: { filter: TrailFilter }) {
  const [open, setOpen] = useState(false);
  return (
    <>
      <button type="button" className="btn btn-outline" onClick={() => setOpen(true)}>
        Save as a file …
      </button>
      {open && <SaveDialog filter={filter} onClose={() => setOpen(false)} />}
    </>
  );
}

function SaveDialog({ filter, onClose }: { filter: TrailFilter; onClose: () => void }) {
  const [state, setState] = useState<{ count: number; busy: boolean; error?: unknown }>({ count: 0, busy: false });
  const [cut, setCut] = useState(false);
  const submit = async (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const as = String(new FormData(event.currentTarget).get("as"));
    setState({ count: 0, busy: true });
    try {
      const entries = await all(filter, (count) => setState({ count, busy: true }));
      save(`trail.${as}`, as === "csv" ? csv(entries) : jsonl(entries), as === "csv" ? "text/csv" : "application/jsonl");
      setCut(entries.length >= mostSaved);
      setState({ count: entries.length, busy: false });
      if (entries.length < mostSaved) onClose();
    } catch (error) {
      setState({ count: 0, busy: false, error });
    }
  };
  return (
    <Dialog title="Save the entries as a file" settled onClose={onClose}>
      <form className="grid gap-4" onSubmit={(event) => void submit(event)}>
        <p>
          All entries that the filters select and you may read, newest first. To save what can be verified later, use{" "}
          <code className="name">tansu trail export</code>.
        </p>
        <Choice
          label="As"
          name="as"
          options={[
            { value: "csv", text: "CSV, for a spreadsheet" },
            { value: "jsonl", text: "JSON lines, for a program" },
          ]}
        />
        {state.busy && (
          <p role="status" className="tabular-nums">
            {state.count} entries …
          </p>
        )}
        {cut && (
          <p role="alert" className="text-warning font-semibold">
            Only the newest {mostSaved} are in the file: choose a shorter time, or use the command line.
          </p>
        )}
        {state.error !== undefined && <ProblemBox error={state.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={state.busy} />
      </form>
    </Dialog>
  );
}
