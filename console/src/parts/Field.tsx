import { useId, type ComponentProps, type ReactNode } from "react";

type FieldProps = ComponentProps<"input"> & { label: string; hint?: ReactNode };

// Field is a labelled input; its hint is read out with it.
export function Field({ label, hint, className = "", ...input }: FieldProps) {
  const id = useId();
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="text-sm font-semibold">
        {label}
      </label>
      <input id={id} className={`input w-full ${className}`} aria-describedby={hint ? `${id}-hint` : undefined} {...input} />
      {hint && (
        <p id={`${id}-hint`} className="muted text-sm">
          {hint}
        </p>
      )}
    </div>
  );
}

type TickProps = ComponentProps<"input"> & { strong?: boolean; children: ReactNode };

// Tick is a box to tick, with what it means beside it.
export function Tick({ strong, children, ...input }: TickProps) {
  return (
    <label className={`flex items-center gap-2 ${strong ? "font-semibold" : ""}`}>
      <input type="checkbox" className="checkbox checkbox-sm" {...input} /> {children}
    </label>
  );
}

type AreaProps = ComponentProps<"textarea"> & { label: string; hint?: ReactNode };

// Area is a labelled input of several lines.
export function Area({ label, hint, ...input }: AreaProps) {
  const id = useId();
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="text-sm font-semibold">
        {label}
      </label>
      <textarea
        id={id}
        rows={4}
        className="textarea name w-full"
        spellCheck={false}
        autoComplete="off"
        aria-describedby={hint ? `${id}-hint` : undefined}
        {...input}
      />
      {hint && (
        <p id={`${id}-hint`} className="muted text-sm">
          {hint}
        </p>
      )}
    </div>
  );
}

type ChoiceProps = ComponentProps<"select"> & { label: string; hint?: ReactNode; options: { value: string; text: string }[] };

export function Choice({ label, hint, options, ...select }: ChoiceProps) {
  const id = useId();
  return (
    <div className="grid content-start gap-1">
      <label htmlFor={id} className="text-sm font-semibold">
        {label}
      </label>
      <select id={id} className="select w-full" aria-describedby={hint ? `${id}-hint` : undefined} {...select}>
        {options.map((o) => (
          <option key={o.value} value={o.value}>
            {o.text}
          </option>
        ))}
      </select>
      {hint && (
        <p id={`${id}-hint`} className="muted text-sm">
          {hint}
        </p>
      )}
    </div>
  );
}
