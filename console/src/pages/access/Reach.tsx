import { useState } from "react";
import { Link } from "react-router";
import { useReach } from "../../api/queries";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";

// Reach lists, when asked, everything that exists and that a subject may do something with.
export function Reach({ subject }: { subject: string }) {
  const [asked, setAsked] = useState(false);
  const reach = useReach(subject, asked);
  const list = reach.data?.reach ?? [];
  return (
    <section aria-label="What it reaches">
      <h2 className="mb-2 text-xl font-semibold">What it reaches {reach.data && <span className="muted font-sans text-base font-normal">{list.length}</span>}</h2>
      {!asked && <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>Show everything it reaches</button>}
      {reach.error && <ProblemBox error={reach.error} />}
      {reach.data && list.length === 0 && <p className="muted">Nothing that exists.</p>}
      {list.length > 0 && (
        <Scroll label="Table of what it reaches">
          <table className="dense table">
            <thead><tr><th scope="col">Target</th><th scope="col">Actions</th></tr></thead>
            <tbody>
              {list.map((r) => (
                <tr key={r.target}>
                  <td>{r.target ? <Link className="link link-hover name" to={`/drawers/${r.target}`}>{r.target}</Link> : "the chest"}</td>
                  <td className="text-sm">{r.actions.map((a) => a.replaceAll("_", " ")).join(", ")}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}
