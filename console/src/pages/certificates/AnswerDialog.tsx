import type { FormEvent } from "react";
import { useAnswerCertificate } from "../../api/certificates";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Area } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

// AnswerDialog takes the certificate that somebody else has signed, for the key that waits for it.
export function AnswerDialog({ drawer, item, onClose }: { drawer: string; item: string; onClose: () => void }) {
  const answer = useAnswerCertificate(drawer, item);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    answer.mutate(String(new FormData(event.currentTarget).get("certificate")), { onSuccess: onClose });
  };
  return (
    <Dialog title={`The certificate of ${item}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Area
          label="Certificate, with those that it leads to"
          name="certificate"
          required
          rows={10}
          placeholder="-----BEGIN CERTIFICATE-----"
          hint="In PEM, in any order. It has to be for the key that waits here."
        />
        {answer.error && <ProblemBox error={answer.error} />}
        <DialogButtons onClose={onClose} action="Put it in" busy={answer.isPending} />
      </form>
    </Dialog>
  );
}
