import { useState } from "react";
import { Field } from "../../parts/Field";

// Current asks for what opens the chest now: a passphrase or a key file, or nothing when shares were handed in a moment ago.
export function Current() {
  const [by, setBy] = useState("passphrase");
  return (
    <fieldset className="grid gap-2">
      <legend className="mb-1 text-sm font-semibold">Confirm with an unlock method that works now</legend>
      <div className="flex flex-wrap gap-4">
        {[
          ["passphrase", "a passphrase"],
          ["file", "a key file"],
          ["shares", "shares, handed in a moment ago"],
        ].map(([value = "", text]) => (
          <label key={value} className="flex items-center gap-2">
            <input type="radio" className="radio radio-sm" name="by" value={value} checked={by === value} onChange={() => setBy(value)} />
            {text}
          </label>
        ))}
      </div>
      {by === "passphrase" && <Field label="Passphrase" name="current" type="password" autoComplete="off" required />}
      {by === "file" && <Field label="Key file" name="current" type="file" required className="file-input" />}
      {by === "shares" && (
        <p className="muted text-sm">
          Each custodian submits theirs with <code className="name">tansu unlock --share</code>; they stay valid for ten minutes, for one
          change.
        </p>
      )}
    </fieldset>
  );
}

// currentOf reads it from the form that it is in.
export async function currentOf(form: HTMLFormElement): Promise<string> {
  const given = new FormData(form).get("current");
  return given instanceof File ? given.text() : (given ?? "");
}
