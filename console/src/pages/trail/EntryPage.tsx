import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { api, data, type Schemas } from "../../api/client";
import { save } from "../../parts/download";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { fromBase64, leafHash, openNote, rootOf, toBase64, type Point } from "../../proof/tree";

// EntryPage shows one entry, and proves in this browser that it is in the trail.
export function EntryPage() {
  const { seq = "" } = useParams();
  const proof = useQuery({
    queryKey: ["proof", seq],
    queryFn: () => data(api.GET("/api/trail/entries/{seq}/proof", { params: { path: { seq: Number(seq) } } })),
    staleTime: Infinity,
    retry: false,
  });
  return (
    <>
      <PageHead
        above={{ to: "/trail", text: "the trail" }}
        title={
          <>
            Entry <span className="name">{seq}</span>
          </>
        }
      />
      {proof.isPending && <Loading what="the entry" />}
      {proof.error && <ProblemBox error={proof.error} />}
      {proof.data && (
        <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
          <Recorded entry={JSON.parse(proof.data.entry) as Record<string, string>} />
          <Proved proof={proof.data} />
          <section className="lg:col-span-2" aria-label="Its bytes">
            <h2 className="mb-2 text-xl font-semibold">The entry, byte for byte</h2>
            <pre className="bg-base-200 rounded-box name overflow-x-auto p-4 text-sm break-all whitespace-pre-wrap">{proof.data.entry}</pre>
          </section>
        </div>
      )}
    </>
  );
}

const words: [string, string][] = [
  ["subject", "Who"],
  ["via", "Proved by"],
  ["action", "Action"],
  ["target", "Target"],
  ["version", "Version"],
  ["outcome", "Outcome"],
  ["reason", "Why"],
  ["grant", "Grant"],
  ["stated", "Stated reason"],
  ["detail", "Detail"],
  ["addr", "From"],
  ["receipt", "Receipt"],
  ["request_id", "Request"],
];

function Recorded({ entry }: { entry: Record<string, string> }) {
  return (
    <section className="panel" aria-label="What was recorded">
      <h2 className="mb-3 text-xl font-semibold">What was recorded</h2>
      <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
        <dt className="muted">When</dt>
        <dd>
          <When at={entry.at} /> <span className="muted text-sm">{entry.at}</span>
        </dd>
        {words
          .filter(([name]) => entry[name])
          .map(([name, word]) => [
            <dt key={name} className="muted">
              {word}
            </dt>,
            <dd key={`${name} value`} className="name min-w-0 text-sm break-words">
              {String(entry[name])}
            </dd>,
          ])}
      </dl>
    </section>
  );
}

type Checked = { point?: Point; leaf: string; root?: string };

async function check(proof: Schemas["Proof"]): Promise<Checked> {
  const { verifier_key } = await data(api.GET("/api/trail/key"));
  const point = await openNote(proof.checkpoint, verifier_key);
  const leaf = await leafHash(new TextEncoder().encode(proof.entry));
  const root = point && (await rootOf(leaf, proof.seq - 1, point.size, proof.hashes.map(fromBase64)));
  return { point, leaf: toBase64(leaf), root: root && toBase64(root) };
}

function Proved({ proof }: { proof: Schemas["Proof"] }) {
  const checked = useQuery({
    queryKey: ["checked", proof.seq, proof.checkpoint],
    queryFn: () => check(proof),
    retry: false,
    staleTime: Infinity,
  });
  const c = checked.data;
  const good = c?.point && c.root === c.point.root;
  return (
    <section className="panel grid content-start gap-3" aria-label="Proof">
      <h2 className="text-xl font-semibold">Proof, checked in this browser</h2>
      {checked.isPending && <Loading what="the proof" />}
      {checked.error && (
        <p role="alert">
          <Mark state="failed" word="This browser cannot check it" />: it lacks Ed25519. Use <code className="name">tansu trail check</code>
          .
        </p>
      )}
      {c && (
        <>
          <p role="status">
            <Mark
              state={good ? "usable" : "failed"}
              word={good ? "It is in the trail as it was recorded" : "It does not match the checkpoint"}
            />
          </p>
          <ol className="grid list-decimal gap-2 pl-6 text-sm">
            <li>
              The hash of its bytes is <span className="name break-all">{c.leaf}</span>
            </li>
            <li>
              {proof.hashes.length} hashes lead from there to the root <span className="name break-all">{c.root ?? "none"}</span>
            </li>
            <li>
              {c.point ? (
                <>
                  The checkpoint of {c.point.size} entries, signed <When at={c.point.at} />, says{" "}
                  <span className="name break-all">{c.point.root}</span>
                </>
              ) : (
                "The checkpoint is not signed by the chest's key"
              )}
            </li>
          </ol>
          <p className="muted text-sm">
            For somebody outside: save the proof, and{" "}
            <code className="name">tansu trail check entry-{proof.seq}.proof --key chest.key</code> checks it without a chest.
          </p>
          <button
            type="button"
            className="btn btn-outline btn-sm justify-self-start print:hidden"
            onClick={() => save(`entry-${proof.seq}.proof`, `${JSON.stringify(proof, null, 2)}\n`, "application/json")}
          >
            Save the proof
          </button>
        </>
      )}
    </section>
  );
}
