import { Link } from "react-router";
import { useMay } from "../../api/may";
import { useGrants, useReach } from "../../api/rights";
import { actionsText } from "../../parts/actions";
import { Dialog } from "../../parts/Dialog";
import { GrantTable } from "../../parts/GrantTable";
import { ProblemBox } from "../../parts/ProblemBox";

type CellDialogProps = { subject: string; drawer: string; onClose: () => void };

// CellDialog says why somebody reaches a drawer: what they may do with what is in it, and the grants that give it.
export function CellDialog({ subject, drawer, onClose }: CellDialogProps) {
  const may = useMay();
  const reach = useReach(subject, may.chest("grant", "read_trail") || subject === may.subject || may.owned.includes(subject));
  const grants = useGrants(subject);
  const here = (reach.data?.reach ?? []).filter((r) => r.target === drawer || r.target.startsWith(`${drawer}/`));
  return (
    <Dialog title={`${subject} in ${drawer}`} wide onClose={onClose}>
      {reach.error && <ProblemBox error={reach.error} />}
      <ul className="mb-4 grid gap-1">
        {here.map((r) => (
          <li key={r.target}>
            <Link className="link link-hover name text-sm" to={`/drawers/${r.target}`}>
              {r.target}
            </Link>
            : {actionsText(r.actions)}
          </li>
        ))}
      </ul>
      <h3 className="mb-1 font-semibold">Grants that reach {subject}</h3>
      {grants.error && <ProblemBox error={grants.error} />}
      {grants.data && <GrantTable grants={grants.data.grants.filter((g) => g.in_force)} of={subject} />}
      <div className="mt-4 flex justify-end">
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </Dialog>
  );
}
