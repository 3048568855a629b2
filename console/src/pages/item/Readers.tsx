import { Link } from "react-router";
import { useReaders } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";

type ReadersProps = { drawer: string; item: string; current: number; asked: boolean; onAsk: () => void };

// Readers lists, when asked, who read which version last, and what keeps them on an older one.
export function Readers({ drawer, item, current, asked, onAsk }: ReadersProps) {
  const readers = useReaders(drawer, item, asked);
  const list = readers.data?.readers ?? [];
  const behind = list.filter((r) => r.version !== current).length;
  return (
    <section aria-label="Who reads which version">
      <h2 className="mb-2 text-xl font-semibold">Who reads which version</h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={onAsk}>
          Show who read it
        </button>
      )}
      {readers.error && <ProblemBox error={readers.error} />}
      {readers.data && list.length === 0 && <p className="muted">Nobody in the last 90 days.</p>}
      {list.length > 0 && (
        <>
          <p className="mb-2">
            {behind === 0 ? (
              <Mark state="usable" word="All readers use the current version" />
            ) : (
              <>
                <Mark state="due" word={`${behind} of ${list.length}`} /> read another version than the current one, {current}.
              </>
            )}
          </p>
          <Scroll label="Table of who reads which version">
            <table className="dense table">
              <thead>
                <tr>
                  <th scope="col">Who</th>
                  <th scope="col">Version</th>
                  <th scope="col">Last read</th>
                  <th scope="col">How</th>
                </tr>
              </thead>
              <tbody>
                {list.map((r) => (
                  <tr key={r.subject}>
                    <td className="min-w-44">
                      <Link className="link link-hover name" to={`/access/${r.subject}`}>
                        {r.subject}
                      </Link>
                    </td>
                    <td>
                      <Mark state={r.version === current ? "usable" : "due"} word={`@${r.version}`} />
                    </td>
                    <td>
                      <When at={r.last} />
                    </td>
                    <td>{r.pinned ? "pinned to a version" : "follows the current version"}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          </Scroll>
        </>
      )}
    </section>
  );
}
