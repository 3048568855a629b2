import { useState } from "react";
import { useExamine, useLock } from "../../api/operation";
import { Confirm } from "../../parts/Confirm";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";

// Condition looks at every row as it is in the file, and locks the chest.
export function Condition() {
  const examine = useExamine();
  const lock = useLock();
  const [locking, setLocking] = useState(false);
  const touched = examine.data?.touched ?? [];
  return (
    <section aria-labelledby="condition" className="grid gap-3">
      <h2 id="condition" className="text-xl font-semibold">
        Condition
      </h2>
      <p className="muted max-w-prose">
        Examining checks everything in the file against its authentication codes: rows, ciphertexts and the trail. Locking makes the chest
        forget its keys, so that nothing is served until it is unlocked.
      </p>
      <span className="flex flex-wrap gap-2">
        <button type="button" className="btn btn-outline" disabled={examine.isPending} onClick={() => examine.mutate()}>
          {examine.isPending ? "Examining …" : "Examine"}
        </button>
        <button type="button" className="btn btn-outline" onClick={() => setLocking(true)}>
          Lock the chest …
        </button>
      </span>
      {examine.error && <ProblemBox error={examine.error} />}
      {examine.data && (
        <div role="status">
          {touched.length === 0 ? (
            <p>
              <Mark state="usable" word="Everything is as it was stored" />
            </p>
          ) : (
            <>
              <p>
                <Mark state="failed" word={`${touched.length} things are not as they were stored`} />:
              </p>
              <ul className="list-disc pl-6">
                {touched.map((t) => (
                  <li key={t} className="name text-sm">
                    {t}
                  </li>
                ))}
              </ul>
            </>
          )}
        </div>
      )}
      {locking && (
        <Confirm
          title="Lock the chest?"
          action="Lock it"
          busy={lock.isPending}
          error={lock.error}
          onYes={() => lock.mutate()}
          onClose={() => setLocking(false)}
        >
          <p>
            Nothing is served to anybody from now on, and everybody is signed out, until somebody unlocks it again. Applications fail,
            except where an agent keeps values.
          </p>
        </Confirm>
      )}
    </section>
  );
}
