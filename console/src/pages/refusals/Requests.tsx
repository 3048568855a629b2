import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAnswerRequest, useRequests, useWithdraw } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { ReasonDialog } from "../../parts/ReasonDialog";
import { useStill } from "../../parts/still";
import { When } from "../../parts/When";
import { AllowDialog, Wanted } from "./AllowDialog";

type Request = Schemas["Request"];

const answered = 10;

// Requests are what people ask for: to be answered, or one's own with what came of them.
export function Requests({ me }: { me: Schemas["Me"] }) {
  const requests = useRequests();
  const answer = useAnswerRequest();
  const withdraw = useWithdraw();
  const [open, setOpen] = useState<{ what: "allow" | "decline"; request: Request }>();
  const [all, setAll] = useState(false);
  const { rows, fresh, renew } = useStill(requests.data?.requests ?? [], (r) => r.id);
  const close = () => setOpen(undefined);
  const waiting = rows.filter(({ row }) => row.state === "open").length;
  const shown = all ? rows : rows.slice(0, waiting + answered);
  return (
    <section aria-label="Requests" className="mb-10">
      <h2 className="mb-2 text-xl font-semibold">
        Requests <span className="muted font-sans text-base font-normal">{waiting} open</span>
      </h2>
      {(requests.error ?? withdraw.error) && (
        <div className="mb-4">
          <ProblemBox error={requests.error ?? withdraw.error} />
        </div>
      )}
      {requests.data && rows.length === 0 && <p className="muted">There are no requests.</p>}
      {fresh > 0 && (
        <p role="status" className="mb-3">
          <button type="button" className="btn btn-sm btn-outline" onClick={renew}>
            Show {fresh} new
          </button>
        </p>
      )}
      <ul className="divide-base-300 border-base-300 divide-y border-y">
        {shown.map(({ row: r }) => (
          <li key={r.id} className="flex flex-wrap items-start justify-between gap-x-6 gap-y-2 py-3">
            <div className="grid min-w-0 gap-1">
              <p>
                <Mark state={r.state} /> <Wanted request={r} />
              </p>
              {r.reason && (
                <p>
                  “{r.reason}”{" "}
                  <span className="muted text-sm">
                    {r.asker !== r.subject && <span className="name">{r.asker} </span>}
                    <When at={r.created_at} />
                  </span>
                </p>
              )}
              <Outcome request={r} />
            </div>
            {r.state === "open" && (
              <div className="flex gap-2">
                {r.asker === me.subject && (
                  <button
                    type="button"
                    className="btn btn-outline btn-sm"
                    disabled={withdraw.isPending}
                    onClick={() => withdraw.mutate(r.id)}
                  >
                    Withdraw<span className="sr-only"> {r.id}</span>
                  </button>
                )}
                {r.may_allow && (
                  <button type="button" className="btn btn-primary btn-sm" onClick={() => setOpen({ what: "allow", request: r })}>
                    Allow …
                    <span className="sr-only">
                      {" "}
                      {r.subject} {r.target}
                    </span>
                  </button>
                )}
                {r.may_answer && (
                  <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen({ what: "decline", request: r })}>
                    Decline …
                    <span className="sr-only">
                      {" "}
                      {r.subject} {r.target}
                    </span>
                  </button>
                )}
              </div>
            )}
          </li>
        ))}
      </ul>
      {shown.length < rows.length && (
        <button type="button" className="btn btn-ghost btn-sm mt-2" onClick={() => setAll(true)}>
          Show {rows.length - shown.length} older
        </button>
      )}
      {open?.what === "allow" && <AllowDialog request={open.request} onClose={close} />}
      {open?.what === "decline" && (
        <ReasonDialog
          title={`Decline ${open.request.subject}`}
          label="Why not?"
          hint="Shown to the requester, and to whoever is refused the same again."
          action="Decline"
          busy={answer.isPending}
          error={answer.error}
          onSay={(because) => answer.mutate({ id: open.request.id, allow: false, because }, { onSuccess: close })}
          onClose={close}
        />
      )}
    </section>
  );
}

function Outcome({ request: r }: { request: Request }) {
  if (r.state === "declined")
    return (
      <p className="text-sm">
        <span className="name">{r.answered_by}</span> declined: {r.answer}
      </p>
    );
  if (r.state === "allowed")
    return (
      <p className="text-sm">
        <span className="name">{r.answered_by}</span> allowed it
        {r.until && (
          <>
            , until <When at={r.until} dated />
          </>
        )}
        {r.grant_id && (
          <>
            , by grant <span className="name">{r.grant_id}</span>
          </>
        )}
      </p>
    );
  return null;
}
