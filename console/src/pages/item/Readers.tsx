import { Link } from "react-router";
import { useReaders } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
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
          <Table
            label="Table of who reads which version"
            rows={list}
            id={(r) => r.subject}
            find={(r) => `${r.subject} @${r.version}`}
            columns={[
              {
                head: "Who",
                className: "sm:min-w-44",
                sort: (r) => r.subject,
                cell: (r) => (
                  <Link className="link link-hover name" to={`/access/${r.subject}`}>
                    {r.subject}
                  </Link>
                ),
              },
              {
                head: "Version",
                sort: (r) => r.version,
                cell: (r) => <Mark state={r.version === current ? "usable" : "due"} word={`@${r.version}`} />,
              },
              { head: "Last read", sort: (r) => -new Date(r.last).getTime(), cell: (r) => <When at={r.last} /> },
              { head: "How", cell: (r) => (r.pinned ? "pinned to a version" : "follows the current version") },
            ]}
          />
        </>
      )}
    </section>
  );
}
