import { useState, type FormEvent } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useJoin, useLeave } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";

// Members shows who is in a team, lets people and apps join, and lets them leave.
export function Members({ team }: { team: Schemas["Identity"] }) {
  const join = useJoin(team.subject);
  const leave = useLeave(team.subject);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    join.mutate(String(new FormData(form).get("member")), { onSuccess: () => form.reset() });
  };
  const manages = useMay().chest("register");
  const [leaving, setLeaving] = useState("");
  return (
    <section aria-label="Members">
      <h2 className="mb-2 text-xl font-semibold">
        Members <span className="muted font-sans text-base font-normal">{team.members.length}</span>
      </h2>
      {team.members.length === 0 && <p className="muted">It has no members.</p>}
      <ul className="divide-base-300 divide-y">
        {team.members.map((m) => (
          <li key={m} className="flex items-center justify-between gap-4 py-2">
            <Link className="link link-hover name" to={`/access/${m}`}>
              {m}
            </Link>
            {manages && (
              <button type="button" className="btn btn-outline btn-xs" onClick={() => setLeaving(m)}>
                Remove …<span className="sr-only"> {m}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
      {manages && (
        <form className="mt-3 flex flex-wrap items-end gap-3" onSubmit={submit}>
          <div className="grow">
            <SubjectField label="Add a member" name="member" kinds={["person", "app"]} required placeholder="person:harbour-master" />
          </div>
          <button type="submit" className="btn btn-outline" disabled={join.isPending}>
            Add
          </button>
        </form>
      )}
      {join.error && (
        <div className="mt-3">
          <ProblemBox error={join.error} />
        </div>
      )}
      {leaving && (
        <Confirm
          title={`Remove ${leaving} from ${team.subject}?`}
          action="Remove"
          busy={leave.isPending}
          error={leave.error}
          onYes={() => leave.mutate(leaving, { onSuccess: () => setLeaving("") })}
          onClose={() => setLeaving("")}
        >
          <p>What it may do only as a member of this team is refused from now on.</p>
        </Confirm>
      )}
    </section>
  );
}
