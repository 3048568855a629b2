import { useState } from "react";
import type { Schemas } from "../../api/client";
import { Dialog } from "../../parts/Dialog";
import { Choice } from "../../parts/Field";
import { Scroll } from "../../parts/Scroll";

type Version = Schemas["Version"];

const exact = (at?: string) => (at ? new Date(at).toISOString().replace(/\.\d+Z$/, "Z") : "–");

// facts are what is known of a version without its value; the fields are those of both.
function facts(v: Version, fields: string[]): [string, string][] {
  return [
    ["state", v.state],
    ["size", `${v.size} bytes`],
    ["newline at its end", v.ends_in_newline ? "yes" : "no"],
    ["not before", exact(v.not_before)],
    ["not after", exact(v.not_after)],
    ["ends", exact(v.ends_at)],
    ["written", exact(v.created_at)],
    ["by", v.created_by],
    ["note", v.note || "–"],
    ...fields.map((name): [string, string] => {
      const field = v.fields.find((f) => f.name === name);
      return [`field ${name}`, field ? `${field.size} bytes` : "not there"];
    }),
  ];
}

// CompareDialog puts two versions side by side, by everything but their values.
export function CompareDialog({ versions, onClose }: { versions: Version[]; onClose: () => void }) {
  const [older, setOlder] = useState(versions[1]?.version ?? 0);
  const [newer, setNewer] = useState(versions[0]?.version ?? 0);
  const x = versions.find((v) => v.version === older);
  const y = versions.find((v) => v.version === newer);
  if (!x || !y) return null;
  const options = versions.map((v) => ({ value: String(v.version), text: `@${v.version}` }));
  const fields = [...new Set([...x.fields, ...y.fields].map((f) => f.name))];
  const right = facts(y, fields);
  const rows = facts(x, fields)
    .map(([name, value], i) => [name, value, right[i]?.[1] ?? ""] as const)
    .filter(([, a, b]) => a !== b);
  return (
    <Dialog title="What differs between two versions" wide onClose={onClose}>
      <div className="grid gap-4">
        <div className="grid grid-cols-2 gap-4">
          <Choice label="Version" value={String(older)} options={options} onChange={(e) => setOlder(Number(e.target.value))} />
          <Choice label="Compared with" value={String(newer)} options={options} onChange={(e) => setNewer(Number(e.target.value))} />
        </div>
        {rows.length === 0 ? (
          <p role="status">
            No difference, except perhaps the value: <code className="name">tansu check --same-as</code> says.
          </p>
        ) : (
          <Scroll label="Table of differences">
            <table className="dense table table-fixed break-words">
              <thead>
                <tr>
                  <th scope="col">What</th>
                  <th scope="col" className="name">
                    @{older}
                  </th>
                  <th scope="col" className="name">
                    @{newer}
                  </th>
                </tr>
              </thead>
              <tbody>
                {rows.map(([name, a, b]) => (
                  <tr key={name}>
                    <th scope="row" className="font-normal">
                      {name}
                    </th>
                    <td>{a}</td>
                    <td>{b}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        )}
        <p className="muted text-sm">Values are neither read nor compared.</p>
        <div className="flex justify-end">
          <button type="button" className="btn" onClick={onClose}>
            Close
          </button>
        </div>
      </div>
    </Dialog>
  );
}
