import { useId } from "react";
import { useMay } from "../api/may";
import { useIdentities } from "../api/queries";
import { Field } from "./Field";

type SubjectFieldProps = { label: string; name: string; kinds?: string[]; required?: boolean; defaultValue?: string; placeholder?: string; hint?: string };

// SubjectField asks for a person, an app or a team, and proposes those that the viewer may see.
export function SubjectField({ kinds, ...field }: SubjectFieldProps) {
  const id = useId();
  const identities = useIdentities(useMay().seesIdentities);
  const list = (identities.data?.identities ?? []).filter((i) => i.state === "active" && (!kinds || kinds.some((k) => i.subject.startsWith(`${k}:`))));
  return (
    <>
      <Field list={id} className="name" autoComplete="off" spellCheck={false} {...field} />
      <datalist id={id}>{list.map((i) => <option key={i.subject} value={i.subject} />)}</datalist>
    </>
  );
}
