import { useGrants } from "../../api/rights";
import { Choice, Field, Tick } from "../../parts/Field";
import { ways } from "../../parts/ways";

const wayOptions = [{ value: "", text: "any way" }, ...Object.entries(ways).map(([value, text]) => ({ value, text }))];

// GrantConditions are what may be asked besides; all of them may stay empty.
export function GrantConditions({ subject }: { subject?: string }) {
  return (
    <details className="border-base-300 rounded-box border p-4">
      <summary className="cursor-pointer font-semibold">Conditions, denial, replacement</summary>
      <div className="mt-4 grid gap-4">
        <Field label="From networks" name="networks" className="name" hint="Such as 10.1.0.0/16; several with commas between." />
        <Field label="In these hours" name="hours" className="name" hint="Such as mon-fri 08:00-18:00 Europe/Lisbon." />
        <Choice label="Signed in by" name="via" options={wayOptions} />
        <Tick name="needs_reason">Each use needs a stated reason</Tick>
        <Tick name="deny">Deny what the role allows, whatever other grants say</Tick>
        {subject && <Replaced subject={subject} />}
      </div>
    </details>
  );
}

function Replaced({ subject }: { subject: string }) {
  const list = (useGrants(subject).data?.grants ?? []).filter((g) => g.in_force && g.subject === subject);
  if (list.length === 0) return null;
  return (
    <Choice
      label="Replaces"
      name="replaces"
      options={[
        { value: "", text: "no other grant" },
        ...list.map((g) => ({ value: g.id, text: `${g.effect === "deny" ? "denied " : ""}${g.role} on ${g.scope}` })),
      ]}
    />
  );
}
