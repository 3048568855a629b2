import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useEndCredential } from "../../api/queries";
import { Dialog } from "../../parts/Dialog";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";
import { ProofDialog } from "./ProofDialog";
import { proofs } from "./words";

// Credentials is what an identity proves itself with.
export function Credentials({ identity }: { identity: Schemas["Identity"] }) {
  const [adding, setAdding] = useState(false);
  const [ending, setEnding] = useState<Schemas["Credential"] | null>(null);
  const end = useEndCredential(identity.subject);
  const app = identity.subject.startsWith("app:");
  const may = useMay();
  const handles = may.chest("register") || (app && may.owned.includes(identity.subject));
  return (
    <section aria-label="Credentials">
      <div className="mb-2 flex items-center justify-between gap-4">
        <h2 className="text-xl font-semibold">{app ? "Sign-in methods" : "Credentials"}</h2>
        {handles && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setAdding(true)}>
            {app ? "Add a sign-in method …" : "Code for a new password …"}
          </button>
        )}
      </div>
      {identity.credentials.length === 0 && <p className="muted">{app ? "No sign-in method yet." : "None besides a password."}</p>}
      <ul className="divide-base-300 divide-y">
        {identity.credentials.map((c) => (
          <Credential key={c.id} of={c} onEnd={handles ? () => setEnding(c) : undefined} />
        ))}
      </ul>
      {ending && (
        <Dialog title={`End the ${proofs[ending.kind].name} ${ending.id}?`} onClose={() => setEnding(null)}>
          <p>Every token issued for it ends immediately. This cannot be undone.</p>
          {end.error && <ProblemBox error={end.error} />}
          <div className="mt-4 flex justify-end gap-2">
            <button type="button" className="btn btn-ghost" onClick={() => setEnding(null)}>
              Cancel
            </button>
            <button
              type="button"
              className="btn btn-primary"
              disabled={end.isPending}
              onClick={() => end.mutate(ending.id, { onSuccess: () => setEnding(null) })}
            >
              End it
            </button>
          </div>
        </Dialog>
      )}
      {adding && <ProofDialog subject={identity.subject} onClose={() => setAdding(false)} />}
    </section>
  );
}

function Credential({ of: c, onEnd }: { of: Schemas["Credential"]; onEnd?: () => void }) {
  return (
    <li className="grid gap-1 py-2">
      <p className="flex flex-wrap items-baseline gap-x-6">
        <b className="min-w-32">{proofs[c.kind].name}</b> <span className="name">{c.id}</span>{" "}
        <span>
          added <When at={c.created_at} /> by <span className="name">{c.created_by}</span>
        </span>
        {c.kind === "host" && c.used_at ? (
          <span>
            <Mark state="open" word="Used up" /> <When at={c.used_at} /> from <span className="name">{c.used_from}</span>
          </span>
        ) : (
          <span>
            ends <When at={c.not_after} />
          </span>
        )}
        {c.kind !== "host" && c.kind !== "enrol" && (
          <span>
            last used <When at={c.last_used} />
          </span>
        )}
        {onEnd && (
          <button type="button" className="btn btn-outline btn-xs ml-auto" onClick={onEnd}>
            End …<span className="sr-only"> {c.id}</span>
          </button>
        )}
      </p>
      {c.issuer && (
        <p className="text-sm">
          tokens of <span className="name">{c.issuer}</span> for <span className="name">{c.audience}</span>, saying{" "}
          {Object.entries(c.claims ?? {}).map(([name, value]) => (
            <span key={name} className="name mr-2">
              {name}={value}
            </span>
          ))}
        </p>
      )}
      {c.thumbprint && (
        <p className="text-sm break-all">
          {c.subject && (
            <>
              <span className="name">{c.subject}</span>,{" "}
            </>
          )}
          SHA-256 <span className="name">{c.thumbprint}</span>
        </p>
      )}
      {c.networks && c.networks.length > 0 && (
        <p className="text-sm">
          from <span className="name">{c.networks.join(", ")}</span>
        </p>
      )}
    </li>
  );
}
