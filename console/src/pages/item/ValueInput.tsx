import { useId, useState } from "react";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { recipes, typed, type FieldForm } from "./shapes";
import { strength } from "./strength";

type ValueInputProps = { field: FieldForm; input: string; recipe: string; keeps?: boolean };

// ValueInput asks for one value, masked from the first keystroke, or from a file; or for how it is generated: then nobody ever sees it.
export function ValueInput({ field, input, recipe, keeps }: ValueInputProps) {
  const id = useId();
  const [way, setWay] = useState(field.file ? "file" : field.many ? "lines" : "");
  const [rated, setRated] = useState<ReturnType<typeof strength>>(undefined);
  const required = field.required && !keeps;
  const hint = keeps ? "Leave empty to keep it as it is." : field.hint;
  if (field.plain) return <Field label={field.label} name={input} required={required} className="name" hint={hint} autoComplete="off" />;
  const ways = recipes.filter((r) => (field.many ? typed(r.value) && r.value !== "" : true));
  return (
    <div className="grid gap-1">
      {way === "lines" && (
        <>
          <label htmlFor={id} className="text-sm font-semibold">
            {field.label}
          </label>
          <textarea
            id={id}
            name={input}
            required={required}
            rows={4}
            className="textarea name masked w-full"
            autoComplete="off"
            spellCheck={false}
            aria-describedby={`${id}-hint`}
          />
          <p id={`${id}-hint`} className="muted text-sm">
            {hint ?? "Every line break counts, also one at the end."}
          </p>
        </>
      )}
      {way === "file" && <Field label={field.label} name={input} type="file" required={required} className="file-input" hint={hint} />}
      {way === "" && (
        <Field
          label={field.label}
          name={input}
          type="password"
          required={required}
          autoComplete="new-password"
          className="name"
          hint={hint}
          onChange={(e) => setRated(strength(e.target.value))}
        />
      )}
      {way === "" && rated && (
        <p className="text-sm" role="status">
          <Mark state={rated.state} word={rated.word} />
        </p>
      )}
      {!field.file && (
        <select
          aria-label={`How to set ${field.label}`}
          name={recipe}
          className="select select-sm w-full"
          value={way}
          onChange={(e) => setWay(e.target.value)}
        >
          {ways.map((r) => (
            <option key={r.value} value={r.value}>
              {field.label}: {r.text}
            </option>
          ))}
        </select>
      )}
    </div>
  );
}
