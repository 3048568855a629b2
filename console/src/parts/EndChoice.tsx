import { useState } from "react";
import { Choice, Field } from "./Field";

type EndChoiceProps = { label: string; days: number[]; chosen: string; never?: string };

// EndChoice asks for an end: in some days, on a date, or never where that is possible. The form has it under end and end_at.
export function EndChoice({ label, days, chosen, never }: EndChoiceProps) {
  const [choice, setChoice] = useState(chosen);
  const options = [
    ...days.map((n) => ({ value: String(n), text: n === 365 ? "in a year" : `in ${n} day${n === 1 ? "" : "s"}` })),
    { value: "at", text: "on a date …" },
    ...(never ? [{ value: "never", text: never }] : []),
  ];
  return (
    <div className="grid gap-4 sm:grid-cols-2">
      <Choice label={label} name="end" value={choice} options={options} onChange={(e) => setChoice(e.target.value)} />
      {choice === "at" && <Field label="Date and time, as on your clock" name="end_at" type="datetime-local" required />}
    </div>
  );
}

// endOf reads what was chosen: a time, or that there is to be no end.
export function endOf(form: FormData): { not_after?: string; never_ends?: true } {
  const choice = String(form.get("end") ?? "");
  if (choice === "never") return { never_ends: true };
  const at = choice === "at" ? new Date(String(form.get("end_at"))) : new Date(Date.now() + Number(choice) * 86_400_000);
  return { not_after: at.toISOString() };
}
