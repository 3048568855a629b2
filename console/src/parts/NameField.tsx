import { useLimits } from "../api/queries";
import { Field } from "./Field";

type NameFieldProps = { label?: string; name?: string; hint?: string };

// NameField asks for the name of something new, in the form that names have.
export function NameField({ label = "Name", name = "name", hint = "Lower-case letters, digits, - _ and ." }: NameFieldProps) {
  const limits = useLimits().data;
  return (
    <Field
      label={label}
      name={name}
      required
      className="name"
      maxLength={limits?.name}
      pattern={limits?.name_pattern}
      title={limits?.name_form}
      hint={hint}
    />
  );
}
