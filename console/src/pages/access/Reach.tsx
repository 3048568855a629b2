import { Link } from "react-router";
import { problemOf } from "../../api/client";
import { useReach } from "../../api/queries";
import { Scroll } from "../../shared/Scroll";

// Reach lists everything that exists and that a subject may do something with.
export function Reach({ subject }: { subject: string }) {
  const reach = useReach(subject);
  const list = reach.data?.reach ?? [];
  return (
    <section aria-label="What it reaches">
      <h2 className="mb-2 text-xl font-semibold">What it reaches <span className="muted font-sans text-base font-normal">{list.length}</span></h2>
      {reach.error && <p className="muted">{problemOf(reach.error).detail}</p>}
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
