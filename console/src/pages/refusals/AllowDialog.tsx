import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useAnswerRequest, usePreview } from "../../api/rights";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Difference } from "../../parts/Difference";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Choice } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type Request = Schemas["Request"];

// AllowDialog says what a yes to a request gives, fully, before it is given.
export function AllowDialog({ request: r, onClose }: { request: Request; onClose: () => void }) {
  const answer = useAnswerRequest();
  const preview = usePreview(r.grant && { give: r.grant });
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const hours = Number(form.get("hours"));
    const until = hours ? new Date(Date.now() + hours * 3_600_000).toISOString() : endOf(form).not_after;
    answer.mutate({ id: r.id, allow: true, until }, { onSuccess: onClose });
  };
  return (
    <Dialog title="Allow it?" wide={Boolean(r.grant)} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          <Wanted request={r} />.
        </p>
        {r.reason && <p>“{r.reason}”</p>}
        {r.grant && preview.data && <Difference of={preview.data} />}
        {preview.error && <ProblemBox error={preview.error} />}
        {r.grant ? (
          <EndChoice label="Ends" days={[1, 7, 30, 90]} chosen={r.grant.not_after ? nearest(r.grant.not_after) : "90"} />
        ) : (
          <Choice
            label="For"
            name="hours"
            defaultValue="1"
            options={[1, 4, 8, 24].map((n) => ({ value: String(n), text: n === 1 ? "an hour" : `${n} hours` }))}
          />
        )}
        {answer.error && <ProblemBox error={answer.error} />}
        <DialogButtons onClose={onClose} action="Allow" busy={answer.isPending} />
      </form>
    </Dialog>
  );
}

// nearest is the choice that comes nearest to what was asked for, and is not longer.
function nearest(end: string): string {
  const days = (new Date(end).getTime() - Date.now()) / 86_400_000 + 0.5;
  return String([90, 30, 7].find((n) => n <= days) ?? 1);
}

export function Wanted({ request: r }: { request: Request }) {
  if (r.kind === "read")
    return (
      <>
        <span className="name">{r.subject}</span> to read <span className="name">{r.target}</span>
      </>
    );
  if (r.grant)
    return (
      <>
        <span className="name">{r.subject}</span> to be <b>{r.grant.role}</b> on <span className="name">{r.grant.scope}</span>
      </>
    );
  return (
    <>
      <span className="name">{r.subject}</span> to {r.action.replaceAll("_", " ")} <span className="name">{r.target || "the chest"}</span>
    </>
  );
}
