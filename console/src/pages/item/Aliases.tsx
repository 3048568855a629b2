import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useEndAlias } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { When } from "../../parts/When";

// Aliases are the old names under which an item is still served, and who uses them.
export function Aliases({ list, may }: { list: Schemas["Alias"][]; may: boolean }) {
  const end = useEndAlias();
  const [asked, setAsked] = useState<Schemas["Alias"]>();
  if (list.length === 0) return null;
  return (
    <section aria-labelledby="aliases">
      <h2 id="aliases" className="mb-2 text-xl font-semibold">
        Old names that still work
      </h2>
      <ul className="grid gap-2">
        {list.map((a) => (
          <li key={a.reference} className="panel flex flex-wrap items-center justify-between gap-3">
            <span>
              <code className="name">{a.reference}</code> until <When at={a.until} />
              {a.users.length === 0 ? (
                <span className="muted"> · nobody uses it</span>
              ) : (
                <>
                  {" "}
                  · used by{" "}
                  {a.users.map((u, i) => (
                    <span key={u.subject}>
                      {i > 0 && ", "}
                      <Link className="link link-hover name" to={`/access/${u.subject}`}>
                        {u.subject}
                      </Link>{" "}
                      <When at={u.last} />
                    </span>
                  ))}
                </>
              )}
            </span>
            {may && (
              <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(a)}>
                End it now …<span className="sr-only"> {a.reference}</span>
              </button>
            )}
          </li>
        ))}
      </ul>
      {asked && (
        <Confirm
          title={`End ${asked.reference} now?`}
          action="End it"
          busy={end.isPending}
          error={end.error}
          onClose={() => setAsked(undefined)}
          onYes={() => end.mutate(asked.reference, { onSuccess: () => setAsked(undefined) })}
        >
          <p>
            Nothing is served under the old name any more.{" "}
            {asked.users.length === 0
              ? "Nobody uses it."
              : `${asked.users.map((u) => u.subject).join(", ")} used it lately, and will fail.`}
          </p>
        </Confirm>
      )}
    </section>
  );
}
