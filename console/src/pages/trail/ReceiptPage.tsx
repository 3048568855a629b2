import { useState } from "react";
import { useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useReceipt } from "../../api/trail";
import { AskFor } from "../../parts/AskFor";
import { Copy } from "../../parts/Copy";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Considered } from "../access/Considered";
import { GiveDialog } from "../access/GiveDialog";

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
      <PageHead
        above={{ to: "/refusals", text: "requests and refusals" }}
        title={
          <>
            Receipt <span className="name">{receipt}</span>
          </>
        }
      />
      {explained.isPending && <Loading what="the receipt" />}
      {explained.error && <ProblemBox error={explained.error} />}
      {r && (
        <div className="grid grid-cols-1 gap-8 lg:grid-cols-2">
          <section className="panel" aria-label="What was refused">
            <h2 className="mb-3 text-xl font-semibold">What was refused</h2>
            <dl className="grid gap-x-6 gap-y-2 sm:grid-cols-[auto_1fr]">
              <dt className="muted">Who</dt>
              <dd>
                <span className="name">{r.entry.subject}</span>
                {r.description && (
                  <>
                    <br />
                    {r.description}
                  </>
                )}
                {r.owner && (
                  <>
                    <br />
                    <span className="muted">owner</span> <span className="name text-sm">{r.owner}</span>
                  </>
                )}
              </dd>
              <dt className="muted">Action</dt>
              <dd>{r.entry.action.replaceAll("_", " ")}</dd>
              <dt className="muted">Target</dt>
              <dd className="name">{r.entry.target || "the chest"}</dd>
              <dt className="muted">Why</dt>
              <dd>{reasons[r.entry.reason] ?? r.entry.reason}</dd>
              <dt className="muted">When</dt>
              <dd>
                <When at={r.entry.at} />
              </dd>
              <dt className="muted">From</dt>
              <dd className="name">{r.entry.addr}</dd>
              <dt className="muted">Request</dt>
              <dd className="name text-sm">{r.entry.request_id}</dd>
            </dl>
          </section>
          <Now receipt={r} />
          {r.considered.length > 0 && (
            <section className="lg:col-span-2" aria-label="The nearest grants">
              <h2 className="mb-2 text-xl font-semibold">The nearest grants</h2>
              <Considered list={r.considered} />
            </section>
          )}
        </div>
      )}
    </>
  );
}

// Now asks the question again, and lets whoever may fix it do so after a look at what that changes.
function Now({ receipt }: { receipt: Schemas["Receipt"] }) {
  const may = useMay();
  const [giving, setGiving] = useState(false);
  const mine = receipt.entry.subject === may.subject || may.owned.includes(receipt.entry.subject);
  const gives = may.somewhere("grant") && receipt.entry.subject !== may.subject;
  const { remedy } = receipt;
  return (
    <section className="panel grid content-start gap-4" aria-label="Now">
      <h2 className="text-xl font-semibold">If it were asked now</h2>
      <p>
        <Mark
          state={receipt.allowed_now ? "allowed" : "refused"}
          word={receipt.allowed_now ? "It would be allowed" : "It would still be refused"}
        />
        {receipt.allowed_now && (
          <>
            , by grant <span className="name">{receipt.grant_now}</span>
          </>
        )}
      </p>
      {remedy && (
        <>
          <p>
            The smallest grant that allows it: <b>{remedy.role}</b> on <span className="name">{remedy.scope}</span> for{" "}
            <span className="name">{remedy.subject}</span>.
          </p>
          {gives && (
            <button type="button" className="btn btn-primary justify-self-start" onClick={() => setGiving(true)}>
              Give it …
            </button>
          )}
          <span className="flex items-start gap-2">
            <code className="bg-base-300 rounded-field name px-3 py-2 text-sm">{remedy.command}</code>
            <Copy text={remedy.command} what="the command" />
          </span>
        </>
      )}
      {receipt.declined && <p className="font-semibold">{receipt.declined}.</p>}
      {receipt.needs_approval && <p>A grant allows it, and the drawer’s rules ask for a second person to agree.</p>}
      {!receipt.allowed_now && mine && <AskFor receipt={receipt.entry.receipt} />}
      {!receipt.allowed_now && !remedy && !receipt.needs_approval && (
        <p>No single grant would allow it: it is denied on purpose, or needs a wider decision. Ask a gatekeeper.</p>
      )}
      {giving && remedy && (
        <GiveDialog
          subject={remedy.subject}
          role={remedy.role}
          scope={remedy.scope}
          reason={`receipt ${receipt.entry.receipt}`}
          days="30"
          onClose={() => setGiving(false)}
        />
      )}
    </section>
  );
}
