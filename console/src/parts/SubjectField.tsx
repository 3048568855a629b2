import { useId, useState, type ComponentProps } from "react";
import { useMay } from "../api/may";
import { useIdentities } from "../api/queries";
import { Field } from "./Field";

type SubjectFieldProps = ComponentProps<typeof Field> & { kinds?: string[] };

// SubjectField asks for a person, an app or a team, and proposes those that the viewer may see. They are asked for, which is in the trail,
// when somebody begins to fill it in.
export function SubjectField({ kinds, ...field }: SubjectFieldProps) {
  const id = useId();
  const [begun, setBegun] = useState(false);
  const identities = useIdentities(useMay().seesIdentities && begun);
  const list = (identities.data?.identities ?? []).filter(
    (i) => i.state === "active" && (!kinds || kinds.some((k) => i.subject.startsWith(`${k}:`))),
  );
  return (
    <>
      <Field list={id} onFocus={() => setBegun(true)} className="name" autoComplete="off" spellCheck={false} {...field} />
      <datalist id={id}>
        {list.map((i) => (
          <option key={i.subject} value={i.subject} />
        ))}
      </datalist>
    </>
  );
}
