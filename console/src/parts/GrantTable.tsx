import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { Conditions } from "./Conditions";
import { Mark } from "./Mark";
import { Scroll } from "./Scroll";
import { When } from "./When";

type GrantTableProps = { grants: Schemas["Grant"][]; of?: string; onEnd?: (id: string) => void };

// GrantTable lists grants of a subject; those in force first. A team's that reach it are named, and ended at the team.
export function GrantTable({ grants, of: owner, onEnd }: GrantTableProps) {
  const showSubject = grants.some((g) => g.subject !== (owner ?? grants[0]?.subject));
  const sorted = [...grants].sort((a, b) => Number(b.in_force) - Number(a.in_force));
  return (
    <Scroll label="Table of grants">
      <table className="dense table">
        <thead>
          <tr>
            {showSubject && <th scope="col">Given to</th>}
            <th scope="col">Role</th><th scope="col">Scope</th><th scope="col">Conditions</th><th scope="col">End</th><th scope="col">Given</th><th scope="col">Reason</th>
            {onEnd && <th scope="col"><span className="sr-only">Do</span></th>}
          </tr>
        </thead>
        <tbody>
          {sorted.map((g) => (
            <tr key={g.id} className={g.in_force ? "" : "muted"}>
              {showSubject && <td><Link className="link link-hover name" to={`/access/${g.subject}`}>{g.subject}</Link></td>}
              <td className="font-semibold">{g.effect === "deny" ? <Mark state="refused" word={`denied ${g.role}`} /> : g.role}</td>
              <td className="name min-w-40">{g.scope}</td>
              <td><Conditions of={g} /></td>
              <td><GrantEnd grant={g} /></td>
              <td><When at={g.created_at} /><br /><span className="name muted text-sm">{g.created_by}</span></td>
              <td>{g.reason}</td>
              {onEnd && <td>{g.in_force && g.subject === owner && <button type="button" className="btn btn-outline btn-xs" onClick={() => onEnd(g.id)}>End<span className="sr-only"> grant of {g.role} on {g.scope}</span></button>}</td>}
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}

function GrantEnd({ grant }: { grant: Schemas["Grant"] }) {
  if (grant.ended_at) return <Mark state="ended" word={`ended by ${grant.ended_by}`} />;
  if (!grant.not_after) return <Mark state="endless" word="never" />;
  return <When at={grant.not_after} />;
}
