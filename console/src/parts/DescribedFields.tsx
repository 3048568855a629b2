import { Area, Field } from "./Field";
import { SubjectField } from "./SubjectField";

type Described = { description: string; owner: string; labels: Record<string, string> };

// DescribedFields ask for what is said about a drawer or an item.
export function DescribedFields({ of }: { of: Described }) {
  return (
    <>
      <Field
        label="Description"
        name="description"
        defaultValue={of.description}
        maxLength={500}
        hint="Everyone who may list it reads this."
      />
      <SubjectField
        label="Owner"
        name="owner"
        kinds={["person", "team"]}
        defaultValue={of.owner}
        placeholder="person:ticketing-lead"
        hint="Who answers for it, and is told before it ends."
      />
      <Area
        label="Labels"
        name="labels"
        rows={3}
        defaultValue={Object.entries(of.labels)
          .sort()
          .map(([key, value]) => `${key}=${value}`)
          .join("\n")}
        hint="One to a line, such as team=ticketing. Scopes of grants can ask for labels, so that changing them can change who has access."
      />
    </>
  );
}

// describedOf reads them, or says what is wrong.
export function describedOf(form: FormData): Described | string {
  const text = (name: string) => String(form.get(name) ?? "").trim();
  const labels: Record<string, string> = {};
  for (const line of text("labels")
    .split("\n")
    .map((l) => l.trim())
    .filter(Boolean)) {
    const at = line.indexOf("=");
    if (at < 1) return `The label “${line}” is not of the form name=value.`;
    labels[line.slice(0, at).trim()] = line.slice(at + 1).trim();
  }
  return { description: text("description"), owner: text("owner"), labels };
}
