import { Field } from "../../parts/Field";

// LifeField asks how long what is issued lasts.
export function LifeField({ longest }: { longest: string }) {
  return (
    <Field
      label="Life"
      name="life"
      className="name"
      placeholder={longest}
      hint={`Up to ${longest}, which it is when this is left empty.`}
    />
  );
}
