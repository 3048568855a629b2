import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAnswerRequest, useRequests, useWithdraw } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { ReasonDialog } from "../../parts/ReasonDialog";
import { When } from "../../parts/When";

// Requests are what people ask for: to be answered, or one's own with what came of them.
export function Requests({ me }: { me: Schemas["Me"] }) {
  const requests = useRequests();
  const answer = useAnswerRequest();
  const withdraw = useWithdraw();
  const [declining, setDeclining] = useState<Schemas["Request"] | null>(null);
  const list = requests.data?.requests ?? [];
  const error = requests.error ?? withdraw.error ?? (declining ? null : answer.error);
  return (
    <section aria-label="Requests" className="mb-10">
      <h2 className="mb-2 text-xl font-semibold">Requests <span className="muted font-sans text-base font-normal">{list.filter((r) => r.state === "open").length} open</span></h2>
      {error && <div className="mb-4"><ProblemBox error={error} /></div>}
      {requests.data && list.length === 0 && <p className="muted">Nobody asks for anything.</p>}
      <ul className="divide-base-300 border-base-300 divide-y border-y">
        {list.map((r) => (
          <li key={r.id} className="flex flex-wrap items-start justify-between gap-x-6 gap-y-2 py-3">
            <div className="grid min-w-0 gap-1">
              <p><Mark state={r.state} /> <Wanted request={r} /></p>
              {r.reason && <p>“{r.reason}” <span className="muted text-sm">{r.asker !== r.subject && <span className="name">{r.asker} </span>}<When at={r.created_at} /></span></p>}
              <Outcome request={r} />
            </div>
            {r.state === "open" && (
              <div className="flex gap-2">
                {r.asker === me.subject
                  ? <button type="button" className="btn btn-outline btn-sm" onClick={() => withdraw.mutate(r.id)}>Withdraw<span className="sr-only"> {r.id}</span></button>
                  : <>
                    <button type="button" className="btn btn-primary btn-sm" disabled={answer.isPending} onClick={() => answer.mutate({ id: r.id, allow: true })}>Allow<span className="sr-only"> {r.subject} {r.target}</span></button>
                    <button type="button" className="btn btn-outline btn-sm" onClick={() => setDeclining(r)}>No …<span className="sr-only"> {r.subject} {r.target}</span></button>
                  </>}
              </div>
            )}
          </li>
        ))}
      </ul>
      {declining && (
        <ReasonDialog title={`Say no to ${declining.subject}`} label="Why not?" hint="Who asked reads this, and whoever is refused the same again." action="Say no" busy={answer.isPending} error={answer.error}
          onSay={(because) => answer.mutate({ id: declining.id, allow: false, because }, { onSuccess: () => setDeclining(null) })} onClose={() => setDeclining(null)} />
      )}
    </section>
  );
}

function Wanted({ request: r }: { request: Schemas["Request"] }) {
  if (r.kind === "read") return <><span className="name">{r.subject}</span> to read <span className="name">{r.target}</span> for an hour</>;
  if (r.grant) return <><span className="name">{r.subject}</span> to be <b>{r.grant.role}</b> on <span className="name">{r.grant.scope}</span></>;
  return <><span className="name">{r.subject}</span> to {r.action.replaceAll("_", " ")} <span className="name">{r.target || "the chest"}</span></>;
}

function Outcome({ request: r }: { request: Schemas["Request"] }) {
  if (r.state === "declined") return <p className="text-sm"><span className="name">{r.answered_by}</span> said no: {r.answer}</p>;
  if (r.state === "allowed") return <p className="text-sm"><span className="name">{r.answered_by}</span> said yes{r.until && <>, ends <When at={r.until} /></>}{r.grant_id && <>, by grant <span className="name">{r.grant_id}</span></>}</p>;
  return null;
}
