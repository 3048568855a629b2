import type { FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useHandOver, useSetState } from "../../api/queries";
import { useEndGrant, useGive, usePreview } from "../../api/rights";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Difference } from "../../parts/Difference";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type FindingDialogProps = { finding: Schemas["Finding"]; onClose: () => void };

// FindingDialog shows what a proposal would change, and does it on a yes.
export function FindingDialog({ finding, onClose }: FindingDialogProps) {
  const give = useGive();
  const end = useEndGrant();
  const suspend = useSetState(finding.subject);
  const handOver = useHandOver(finding.subject);
  const proposal = finding.instead ? { give: finding.instead } : finding.end ? { end: finding.grant } : undefined;
  const preview = usePreview(proposal);
  const done = { onSuccess: onClose };
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    if (finding.instead) give.mutate(finding.instead, done);
    else if (finding.end) end.mutate(finding.grant, done);
    else if (finding.suspend) suspend.mutate("suspended", done);
    else handOver.mutate(String(new FormData(event.currentTarget).get("to")), done);
  };
  const error = give.error ?? end.error ?? suspend.error ?? handOver.error ?? preview.error;
  const busy = give.isPending || end.isPending || suspend.isPending || handOver.isPending;
  return (
    <Dialog title={`${finding.subject}: what is proposed`} wide onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>{finding.detail}.</p>
        {finding.instead && (
          <p>
            Instead: <b>{finding.instead.role}</b> on <span className="name">{finding.instead.scope}</span>, until the same end.
          </p>
        )}
        {preview.data && <Difference of={preview.data} />}
        {finding.suspend && <p>It is suspended: its tokens end immediately, and it can be resumed later.</p>}
        {finding.kind === "owner_left" && (
          <Field
            label="Who takes over everything they own?"
            name="to"
            required
            className="name"
            placeholder="person:harbour-master"
            hint="Access is not handed over."
          />
        )}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action="Do it" busy={busy} />
      </form>
    </Dialog>
  );
}
