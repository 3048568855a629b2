import { useState, type ChangeEvent } from "react";
import { useImport } from "../../api/queries";
import type { Schemas } from "../../api/client";
import { Dialog } from "../../parts/Dialog";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";

type Format = "dotenv" | "json" | "properties" | "yaml" | "csv";

const marks: Record<string, string> = { new: "gains", changed: "altered", same: "usable", exists: "ended", invalid: "failed", refused: "refused" };

// formatOf guesses from a file's name, as the command line does.
function formatOf(name: string): Format {
  if (name.endsWith(".json")) return "json";
  if (/\.ya?ml$/.test(name)) return "yaml";
  if (name.endsWith(".csv")) return "csv";
  return name.endsWith(".properties") ? "properties" : "dotenv";
}

function base64(bytes: Uint8Array): string {
  let text = "";
  for (let at = 0; at < bytes.length; at += 0x8000) text += String.fromCharCode(...bytes.subarray(at, at + 0x8000));
  return btoa(text);
}

// ImportDialog moves a plaintext file in: what would happen first, then all of it or nothing. The file's bytes are in this
// component's state until it is closed, and nowhere else.
export function ImportDialog({ drawer, onClose }: { drawer: string; onClose: () => void }) {
  const move = useImport(drawer);
  const [file, setFile] = useState<{ name: string; content: string }>();
  const [format, setFormat] = useState<Format>("dotenv");
  const [replace, setReplace] = useState(false);
  const send = (content: string, as: Format, over: boolean, preview: boolean) => move.mutate({ format: as, content, encoding: "base64", replace: over, preview });
  const choose = async (event: ChangeEvent<HTMLInputElement>) => {
    const chosen = event.target.files?.[0];
    if (!chosen) return;
    const content = base64(new Uint8Array(await chosen.arrayBuffer()));
    const as = formatOf(chosen.name);
    setFile({ name: chosen.name, content });
    setFormat(as);
    send(content, as, replace, true);
  };
  const report = move.data;
  const fine = report && report.problems.length === 0 && report.items.every((it) => !["exists", "invalid", "refused"].includes(it.result)) && report.items.some((it) => it.result !== "same");
  return (
    <Dialog title={`Move a file into ${drawer}`} wide onClose={onClose}>
      <div className="grid gap-4">
        <p className="muted">A dotenv file, flat JSON or YAML, Java properties, or CSV with the columns name and value. Each entry becomes an item of its name in lower case; no value is shown.</p>
        {!report?.done && (
          <div className="flex flex-wrap items-end gap-4">
            <label className="grid gap-1 text-sm font-semibold">File<input type="file" className="file-input" onChange={(e) => void choose(e)} /></label>
            <label className="grid gap-1 text-sm font-semibold">Format
              <select className="select" value={format} onChange={(e) => { const as = e.target.value as Format; setFormat(as); if (file) send(file.content, as, replace, true); }}>
                {["dotenv", "json", "yaml", "csv", "properties"].map((f) => <option key={f}>{f}</option>)}
              </select>
            </label>
            <label className="flex items-center gap-2 pb-2"><input type="checkbox" className="checkbox checkbox-sm" checked={replace} onChange={(e) => { setReplace(e.target.checked); if (file) send(file.content, format, e.target.checked, true); }} /> Add a version to items that exist</label>
          </div>
        )}
        {move.error && <ProblemBox error={move.error} />}
        {report && <Report report={report} drawer={drawer} />}
        {report?.done && (
          <div role="status" className="panel grid gap-1">
            <p className="font-semibold"><Mark state="usable" word="Moved in." /> Left to do:</p>
            <ul className="list-disc pl-6">
              <li>remove <span className="name">{file?.name}</span> and its copies: editors and backups keep some</li>
              <li>if it was ever in a repository, its history keeps every value: replace those, do not only delete the file</li>
              <li>replace what was seen by others, in chat or in a log</li>
            </ul>
          </div>
        )}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-ghost" onClick={onClose}>{report?.done ? "Close" : "Cancel"}</button>
          {file && !report?.done && <button type="button" className="btn btn-primary" disabled={!fine || move.isPending} onClick={() => send(file.content, format, replace, false)}>Move it in</button>}
        </div>
      </div>
    </Dialog>
  );
}

function Report({ report, drawer }: { report: Schemas["ImportReport"]; drawer: string }) {
  return (
    <div className="max-h-96 overflow-y-auto">
      <Scroll label="What becomes of each entry">
        <table className="dense table">
          <thead><tr><th scope="col">Line</th><th scope="col">Name</th><th scope="col">Item</th><th scope="col">Result</th><th scope="col"><span className="sr-only">Why</span></th></tr></thead>
          <tbody>
            {report.problems.map((p) => <tr key={`p${p.line}`}><td>{p.line}</td><td /><td /><td><Mark state="failed" word="not readable" /></td><td>{p.text}</td></tr>)}
            {report.items.map((it) => (
              <tr key={`${it.line} ${it.name}`}><td>{it.line}</td><td className="name">{it.name}</td><td className="name">{drawer}/{it.item}</td><td><Mark state={marks[it.result] ?? "empty"} word={it.result} /></td><td>{it.detail}</td></tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </div>
  );
}
