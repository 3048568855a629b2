import { useRef, useState, type ChangeEvent } from "react";
import type { Schemas } from "../../api/client";
import { useImport } from "../../api/queries";
import { Dialog } from "../../parts/Dialog";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Field, Tick } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import { base64 } from "../item/shapes";
import { ImportReport } from "./ImportReport";

type Format = Schemas["NewImport"]["format"];

const good = ["new", "changed", "same"];

// formatOf guesses from a file's name, as the command line does.
function formatOf(name: string): Format {
  if (name.endsWith(".json")) return "json";
  if (/\.ya?ml$/.test(name)) return "yaml";
  if (name.endsWith(".csv")) return "csv";
  return name.endsWith(".properties") ? "properties" : "dotenv";
}

// ImportDialog imports a plaintext file: what would happen first, then all of it, or only what can be when that is chosen. The file's bytes
// are in this component's state until it is closed, and nowhere else.
export function ImportDialog({ drawer, rules, onClose }: { drawer: string; rules?: Schemas["Rules"]; onClose: () => void }) {
  const move = useImport(drawer);
  const form = useRef<HTMLFormElement>(null);
  const [file, setFile] = useState<{ name: string; content: string }>();
  const [format, setFormat] = useState<Format>("dotenv");
  const [left, setLeft] = useState<string[]>([]);
  const [each, setEach] = useState(false);
  const send = (preview: boolean, change: { content?: string; format?: Format; except?: string[] } = {}) => {
    const given = new FormData(form.current ?? undefined);
    const content = change.content ?? file?.content;
    const [note = "", owner = ""] = ["note", "owner"].map((name) => String(given.get(name) ?? "").trim());
    const { not_after } = endOf(given);
    const except = change.except ?? left;
    if (content === undefined || (given.get("end") === "at" && !given.get("end_at"))) return;
    move.mutate({
      format: change.format ?? format,
      content,
      encoding: "base64",
      preview,
      replace: Boolean(given.get("replace")),
      each: Boolean(given.get("each")),
      ...(note && { note }),
      ...(owner && { owner }),
      ...(not_after && { not_after }),
      ...(except.length > 0 && { except }),
    });
  };
  const choose = async (event: ChangeEvent<HTMLInputElement>) => {
    const chosen = event.target.files?.[0];
    if (!chosen) return;
    const content = base64(new Uint8Array(await chosen.arrayBuffer()));
    setFile({ name: chosen.name, content });
    setFormat(formatOf(chosen.name));
    setLeft([]);
    send(true, { content, format: formatOf(chosen.name), except: [] });
  };
  const leave = (name: string) => {
    const next = left.includes(name) ? left.filter((n) => n !== name) : [...left, name];
    setLeft(next);
    send(true, { except: next });
  };
  const report = move.data;
  const able = report?.items.filter((it) => it.result === "new" || it.result === "changed").length ?? 0;
  const whole = report && report.problems.length === 0 && report.items.every((it) => good.includes(it.result));
  return (
    <Dialog title={`Import into ${drawer}`} wide settled={report?.done} onClose={onClose}>
      <form
        ref={form}
        className="grid gap-4"
        onSubmit={(event) => {
          event.preventDefault();
          send(false);
        }}
      >
        {!report?.done && (
          <>
            <p className="muted">
              A dotenv file, flat JSON or YAML, Java properties, or CSV with the columns name and value. Each entry becomes an item of its
              name in lower case; no value is shown.
            </p>
            <div className="grid gap-4 sm:grid-cols-2">
              <Field label="File" type="file" className="file-input" onChange={(e) => void choose(e)} />
              <label className="grid content-start gap-1 text-sm font-semibold">
                Format
                <select
                  className="select w-full"
                  value={format}
                  onChange={(e) => {
                    const as = e.target.value as Format;
                    setFormat(as);
                    send(true, { format: as });
                  }}
                >
                  {["dotenv", "json", "yaml", "csv", "properties"].map((f) => (
                    <option key={f}>{f}</option>
                  ))}
                </select>
              </label>
              <EndChoice
                label="Served until"
                days={[30, 90, 365]}
                chosen={rules?.needs_end ? "90" : "never"}
                never={rules?.needs_end ? undefined : "no end"}
              />
              <Field label="Note" name="note" maxLength={200} />
              <SubjectField
                label="Owner of new items"
                name="owner"
                kinds={["person", "team"]}
                placeholder="person:ticketing-lead"
                onBlur={() => send(true)}
                hint={
                  rules?.owner
                    ? `This drawer's rules require ${rules.owner === "any" ? "an owner" : `a ${rules.owner} as owner`}.`
                    : undefined
                }
              />
            </div>
            <Tick name="replace" onChange={() => setTimeout(() => send(true))}>
              Add a version to items that exist
            </Tick>
            <Tick
              name="each"
              checked={each}
              onChange={(e) => {
                setEach(e.target.checked);
                setTimeout(() => send(true));
              }}
            >
              Import what can be, and leave the rest, instead of all or nothing
            </Tick>
          </>
        )}
        {move.error && <ProblemBox error={move.error} />}
        {report && <ImportReport report={report} drawer={drawer} left={left} onLeave={report.done ? undefined : leave} />}
        {report?.done && (
          <div role="status" className="panel grid gap-1">
            <p className="font-semibold">
              <Mark state="usable" word="Imported." /> Left to do:
            </p>
            <ul className="list-disc pl-6">
              {!whole && <li>what could not be imported, as the list says</li>}
              <li>
                remove <span className="name">{file?.name}</span> and its copies: editors and backups keep some
              </li>
              <li>if it was ever in a repository, its history keeps every value: replace those, do not only delete the file</li>
              <li>replace what was seen by others, in chat or in a log</li>
            </ul>
          </div>
        )}
        {able > 0 && !whole && !each && !report?.done && (
          <p className="text-warning text-sm font-semibold">
            Not all of it can be imported. Leave out what cannot be, or tick “Import what can be”.
          </p>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-ghost" onClick={onClose}>
            {report?.done ? "Close" : "Cancel"}
          </button>
          {file && !report?.done && (
            <button type="submit" className="btn btn-primary" disabled={able === 0 || !(whole || each) || move.isPending}>
              Import {able > 0 && able}
            </button>
          )}
        </div>
      </form>
    </Dialog>
  );
}
