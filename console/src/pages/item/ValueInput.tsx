import { useId, useState } from "react";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { recipes, type FieldForm } from "./shapes";
import { strength } from "./strength";

type ValueInputProps = { field: FieldForm; input: string; recipe: string; keeps?: boolean };

// ValueInput asks for one value, masked from the first keystroke, or for how it is made up; then nobody ever sees it.
export function ValueInput({ field, input, recipe, keeps }: ValueInputProps) {
  const id = useId();
  const [made, setMade] = useState("");
  const [typed, setTyped] = useState<ReturnType<typeof strength>>(undefined);
  const required = field.required && !keeps && !made;
  const hint = keeps ? "Left empty it stays as it is." : field.hint;
  if (field.plain) return <Field label={field.label} name={input} required={required} className="name" hint={hint} autoComplete="off" />;
  return (
    <div className="grid gap-1">
      {field.many
        ? <>
          <label htmlFor={id} className="text-sm font-semibold">{field.label}</label>
          <textarea id={id} name={input} required={required} rows={4} className="textarea name masked w-full" autoComplete="off" spellCheck={false} aria-describedby={`${id}-hint`} />
          <p id={`${id}-hint`} className="muted text-sm">{hint}</p>
        </>
        : !made && <Field label={field.label} name={input} type="password" required={required} autoComplete="new-password" className="name" hint={hint} onChange={(e) => setTyped(strength(e.target.value))} />}
      {!field.many && !made && typed && <p className="text-sm" role="status"><Mark state={typed.state} word={typed.word} /></p>}
      {!field.many && (
        <select aria-label={`How ${field.label} comes about`} name={recipe} className="select select-sm w-full" value={made} onChange={(e) => setMade(e.target.value)}>
          {recipes.map((r) => <option key={r.value} value={r.value}>{field.label}: {r.text}</option>)}
        </select>
      )}
    </div>
  );
}
