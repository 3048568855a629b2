import { useState } from "react";
import { api, data, pageOf } from "../../api/client";
import { useMakeCheckpoint, useVerifierKey } from "../../api/trail";
import { save } from "../../parts/download";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";
import { Edge, leafHash, openNote, toBase64, type Point } from "../../proof/tree";

type State = { done: number; size: number; matched: number; points: number; problems: string[]; covered?: Point; over: boolean };

// verify fetches all entries and compares the tree over them with each checkpoint, telling how far it is.
async function verify(tell: (s: State) => void) {
  const { verifier_key } = await data(api.GET("/api/trail/key"));
  const answer = await fetch("/api/trail/export", { credentials: "same-origin", headers: pageOf() });
  if (!answer.ok || !answer.body) return data(Promise.resolve({ error: (await answer.json()) as unknown, response: answer }));
  const size = Number(answer.headers.get("Tansu-Trail-Size"));
  const kept = await data(api.GET("/api/trail/checkpoints", { params: { query: { from: size } } }));
  const points: Point[] = [];
  const state: State = { done: 0, size, matched: 0, points: kept.checkpoints.length, problems: [], over: false };
  for (const one of kept.checkpoints.reverse()) {
    const point = await openNote(one.note, verifier_key);
    if (point) points.push(point);
    else state.problems.push(`The checkpoint of ${one.size} entries is not signed by the chest's key.`);
  }
  const edge = new Edge();
  const match = async () => {
    while (points[0] && points[0].size === edge.size) {
      const point = points.shift() as Point;
      if (toBase64(await edge.root()) === point.root) {
        state.matched++;
        state.covered = point;
      } else if (state.problems.length === 0) {
        state.problems.push(
          `Something among entries ${(state.covered?.size ?? 0) + 1} to ${point.size} is not what it was at ${point.at}.`,
        );
      }
    }
  };
  for await (const line of linesOf(answer.body)) {
    await edge.add(await leafHash(line));
    await match();
    state.done = edge.size;
    if (edge.size % 200 === 0) tell({ ...state });
  }
  if (points.length > 0)
    state.problems.push(`The trail ends at entry ${edge.size}, and at ${points.at(-1)?.at ?? ""} it had ${points.at(-1)?.size ?? 0}.`);
  tell({ ...state, over: true });
}

async function* linesOf(body: ReadableStream<Uint8Array>) {
  const reader = body.getReader();
  let rest = new Uint8Array();
  for (;;) {
    const { done, value } = await reader.read();
    if (done) return;
    const all = new Uint8Array(rest.length + value.length);
    all.set(rest);
    all.set(value, rest.length);
    let from = 0;
    for (let to = all.indexOf(10); to >= 0; to = all.indexOf(10, from)) {
      yield all.subarray(from, to);
      from = to + 1;
    }
    rest = all.slice(from);
  }
}

// VerifyPage verifies the whole trail in front of the viewer, in the viewer's browser.
export function VerifyPage() {
  const [state, setState] = useState<State>();
  const [error, setError] = useState<unknown>();
  const [running, setRunning] = useState(false);
  const run = () => {
    setRunning(true);
    setError(undefined);
    setState(undefined);
    verify(setState)
      .catch(setError)
      .finally(() => setRunning(false));
  };
  return (
    <>
      <PageHead
        above={{ to: "/trail", text: "the trail" }}
        title="Verify the trail"
        aside={
          <button type="button" className="btn btn-primary" disabled={running} onClick={run}>
            Verify now
          </button>
        }
      >
        This browser fetches every entry, builds the Merkle tree over them, and compares it with every checkpoint that the chest has signed.
        Nothing up to the newest one can have been changed, removed or inserted.
      </PageHead>
      {error !== undefined && <ProblemBox error={error} />}
      {state && (
        <section className="panel grid gap-4" aria-label="Verification">
          <progress
            className="progress progress-primary w-full"
            aria-label="Entries verified"
            value={state.done}
            max={Math.max(1, state.size)}
          />
          <p className="tabular-nums">
            {state.done} of {state.size} entries, {state.matched} of {state.points} checkpoints match
          </p>
          {state.problems.map((p) => (
            <p key={p} role="alert">
              <Mark state="failed" word={p} />
            </p>
          ))}
          {state.over && state.problems.length === 0 && (
            <p role="status">
              <Mark state="usable" word="Everything is as it was recorded" />
              {state.covered && (
                <>
                  , as of the checkpoint signed <When at={state.covered.at} />
                </>
              )}
            </p>
          )}
        </section>
      )}
      <Checkpoint />
      <section className="mt-8 grid gap-3" aria-label="Verify without this chest">
        <h2 className="text-xl font-semibold">Verify without this chest</h2>
        <p className="max-w-prose">
          A chest that lies about its past can lie here too. An auditor keeps a checkpoint and the verifier key elsewhere, and compares an
          export with them on another machine:
        </p>
        <pre className="bg-base-200 rounded-box name overflow-x-auto p-4 text-sm">{`tansu trail export --out trail.jsonl
tansu trail verify trail.jsonl --key kept.key --checkpoint kept.checkpoint`}</pre>
      </section>
    </>
  );
}

// Checkpoint signs what the trail is now, and saves it with the key that checks it, for an auditor to keep elsewhere.
function Checkpoint() {
  const make = useMakeCheckpoint();
  const key = useVerifierKey();
  return (
    <section className="mt-8 grid gap-3" aria-label="Checkpoint to keep">
      <h2 className="text-xl font-semibold">A checkpoint to keep</h2>
      <p className="max-w-prose">
        A signed statement of what the trail is now. Kept elsewhere, it shows later whether anything before it was changed.
      </p>
      {make.error && <ProblemBox error={make.error} />}
      <span className="flex flex-wrap gap-2">
        <button
          type="button"
          className="btn btn-outline"
          disabled={make.isPending}
          onClick={() => make.mutate(undefined, { onSuccess: (c) => save(`${c.size}.checkpoint`, c.note, "text/plain") })}
        >
          Sign and save a checkpoint
        </button>
        <button
          type="button"
          className="btn btn-outline"
          disabled={!key.data}
          onClick={() => key.data && save("chest.key", `${key.data.verifier_key}\n`, "text/plain")}
        >
          Save the verifier key
        </button>
      </span>
      {make.data && (
        <p role="status">
          <Mark state="usable" word="Saved" />: a checkpoint of {make.data.size} entries.
        </p>
      )}
    </section>
  );
}
