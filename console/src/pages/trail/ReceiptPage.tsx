import { useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useGive, useReceipt } from "../../api/queries";
import { AskFor } from "../../parts/AskFor";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Loading } from "../../parts/States";
import { When } from "../../parts/When";

const reasons: Record<string, string> = {
  no_grant: "No grant gives this action on this target.",
  grant_ended: "The grant that gave it has ended.",
  denied: "A grant denies it.",
  reason_needed: "A grant would allow it with a stated reason.",
  condition_failed: "A grant would allow it, but one of its conditions did not hold.",
  own_access: "Nobody changes their own access.",
  steward_only: "Only a steward may.",
  approval_needed: "A grant allows it, and a second person has to agree.",
};

// ReceiptPage explains one refusal, asks the question again, and lets a gatekeeper fix it.
export function ReceiptPage() {
  const { receipt = "" } = useParams();
  const explained = useReceipt(receipt);
  const r = explained.data;
  return (
    <>
      <PageHead above={{ to: "/refusals", text: "refusals" }} title={<>Receipt <span className="name">{receipt}</span></>} />
      {explained.isPending && <Loading what="the receipt" />}
      {explained.error && <ProblemBox error={explained.error} />}
      {r && (
        <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
          <section className="panel" aria-label="What was refused">
            <h2 className="mb-3 text-xl font-semibold">What was refused</h2>
            <dl className="grid grid-cols-[auto_1fr] gap-x-6 gap-y-2">
              <dt className="muted">Who</dt><dd><span className="name">{r.entry.subject}</span>{r.description && <><br />{r.description}</>}{r.owner && <><br /><span className="muted">owner</span> <span className="name text-sm">{r.owner}</span></>}</dd>
              <dt className="muted">Action</dt><dd>{r.entry.action.replaceAll("_", " ")}</dd>
              <dt className="muted">Target</dt><dd className="name">{r.entry.target || "the chest"}</dd>
              <dt className="muted">Why</dt><dd>{reasons[r.entry.reason] ?? r.entry.reason}</dd>
              <dt className="muted">When</dt><dd><When at={r.entry.at} /></dd>
              <dt className="muted">From</dt><dd className="name">{r.entry.addr}</dd>
              <dt className="muted">Request</dt><dd className="name text-sm">{r.entry.request_id}</dd>
            </dl>
          </section>
          <Now receipt={r} />
          <Considered receipt={r} />
        </div>
      )}
    </>
  );
}

// Considered shows the grants that came nearest, and what kept each from allowing it.
function Considered({ receipt }: { receipt: Schemas["Receipt"] }) {
  if (receipt.considered.length === 0) return null;
  return (
    <section className="lg:col-span-2" aria-label="The nearest grants">
      <h2 className="mb-2 text-xl font-semibold">The nearest grants</h2>
      <Scroll label="Table of the nearest grants">
        <table className="dense table">
          <thead><tr><th scope="col">Role</th><th scope="col">Scope</th><th scope="col">What did not fit</th><th scope="col">Given by</th></tr></thead>
          <tbody>
            {receipt.considered.slice(0, 5).map(({ grant, miss }) => (
              <tr key={grant.id}>
                <td className="font-semibold">{grant.effect === "deny" ? `denied ${grant.role}` : grant.role}</td>
                <td className="name">{grant.scope}</td>
                <td>{miss || "nothing: it applies"}</td>
                <td className="name text-sm">{grant.created_by}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

function Now({ receipt }: { receipt: Schemas["Receipt"] }) {
  const give = useGive();
  return (
    <section className="panel grid content-start gap-4" aria-label="Now">
      <h2 className="text-xl font-semibold">If it were asked now</h2>
      <p><Mark state={receipt.allowed_now ? "allowed" : "refused"} word={receipt.allowed_now ? "It would be allowed" : "It would still be refused"} />
        {receipt.allowed_now && <>, by grant <span className="name">{receipt.grant_now}</span></>}</p>
      {receipt.remedy && (
        <>
          <p>The smallest grant that allows it, for 90 days:</p>
          <code className="bg-base-300 rounded-field name px-3 py-2">{receipt.remedy.command}</code>
          {give.error && <ProblemBox error={give.error} />}
          <button type="button" className="btn btn-primary justify-self-start" disabled={give.isPending}
            onClick={() => receipt.remedy && give.mutate({ subject: receipt.remedy.subject, role: receipt.remedy.role, scope: receipt.remedy.scope, reason: `receipt ${receipt.entry.receipt}` })}>
            Give this grant
          </button>
        </>
      )}
      {receipt.declined && <p className="font-semibold">{receipt.declined}.</p>}
      {receipt.needs_approval && <p>A grant allows it, and the drawer’s rules ask for a second person to agree.</p>}
      {!receipt.allowed_now && <AskFor receipt={receipt.entry.receipt} />}
      {!receipt.allowed_now && !receipt.remedy && !receipt.needs_approval && <p>No one grant is proposed: what keeps it out was put there on purpose, or it depends on what it is for. A gatekeeper decides.</p>}
      {give.data && <p role="status"><Mark state="allowed" word="In force now" /></p>}
    </section>
  );
}
