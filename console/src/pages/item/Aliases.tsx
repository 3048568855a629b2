import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useEndAlias } from "../../api/queries";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";

// Aliases are the old names under which an item is still served, and who uses them.
export function Aliases({ list }: { list: Schemas["Alias"][] }) {
  const end = useEndAlias();
  if (list.length === 0) return null;
  return (
    <section aria-labelledby="aliases">
      <h2 id="aliases" className="mb-2 text-xl font-semibold">Old names that still work</h2>
      <ul className="grid gap-2">
        {list.map((a) => (
          <li key={a.reference} className="panel flex flex-wrap items-center justify-between gap-3">
            <span><code className="name">{a.reference}</code> until <When at={a.until} />
              {a.users.length === 0 ? <span className="muted"> · nobody uses it</span> : <> · used by {a.users.map((u, i) => <span key={u.subject}>{i > 0 && ", "}<Link className="link link-hover name" to={`/access/${u.subject}`}>{u.subject}</Link> <When at={u.last} /></span>)}</>}
            </span>
            <button type="button" className="btn btn-outline btn-sm" disabled={end.isPending} onClick={() => end.mutate(a.reference)}>End it now<span className="sr-only"> {a.reference}</span></button>
          </li>
        ))}
      </ul>
      {end.error && <ProblemBox error={end.error} />}
    </section>
  );
}
