import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useShares, useTakeShare } from "../../api/operation";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";

// Shares are those of what opens the chest that are the viewer's to keep. Each is shown once, when it is taken.
export function Shares() {
  const shares = useShares();
  const take = useTakeShare();
  const [taken, setTaken] = useState<Schemas["TakenShare"]>();
  const list = shares.data?.shares ?? [];
  if (list.length === 0 && !taken) return null;
  return (
    <section className="panel grid gap-3" aria-labelledby="shares">
      <h2 id="shares" className="text-xl font-semibold">
        Your share of the unlock key
      </h2>
      {taken && (
        <div role="status" className="grid gap-2">
          <p>
            Share {taken.number} of {taken.count} of <span className="name">{taken.method}</span>; {taken.needed} open it.{" "}
            <b>It is shown only once: write it down.</b>
          </p>
          <p className="bg-base-300 rounded-field name grid grid-cols-[repeat(auto-fill,minmax(5rem,1fr))] gap-x-4 gap-y-1 p-4 text-lg">
            {taken.words.split("-").map((word, i) => (
              <span key={i}>{word}</span>
            ))}
          </p>
          <div>
            <button
              type="button"
              className="btn btn-outline btn-sm"
              onClick={() => {
                setTaken(undefined);
                take.reset();
              }}
            >
              I have written it down
            </button>
          </div>
        </div>
      )}
      {list.map((s) => (
        <p key={s.id} className="flex flex-wrap items-center justify-between gap-2">
          <span>
            Share {s.number} of {s.count} of <span className="name font-medium">{s.method}</span>: {s.needed} are needed.{" "}
            {s.taken ? (
              <>
                You took it <When at={s.taken} />.
              </>
            ) : (
              "Waiting for you."
            )}
          </span>
          {!s.taken && (
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={take.isPending}
              onClick={() => take.mutate(s.id, { onSuccess: setTaken })}
            >
              Take it
            </button>
          )}
        </p>
      ))}
      {take.error && <ProblemBox error={take.error} />}
    </section>
  );
}
