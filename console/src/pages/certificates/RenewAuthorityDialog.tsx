import type { FormEvent } from "react";
import { useRenewAuthority } from "../../api/certificates";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type RenewAuthorityDialogProps = { drawer: string; item: string; own: boolean; onClose: () => void };

// RenewAuthorityDialog lets an authority last longer, with its key.
export function RenewAuthorityDialog({ drawer, item, own, onClose }: RenewAuthorityDialogProps) {
  const renew = useRenewAuthority(drawer, item);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const under = String(form.get("under") ?? "").trim();
    renew.mutate({ life: String(form.get("life")).trim(), ...(under && { under }) }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Renew ${item}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          It keeps its key, its name and its bounds, and what it has signed stays good.
          {own && " Whoever trusts it has to be given the new certificate before the old one ends."}
        </p>
        <Field label="Lasts, from now on" name="life" required defaultValue="3650d" className="name" hint="Such as 730d." />
        {!own && (
          <Field
            label="Certified by"
            name="under"
            required
            className="name"
            placeholder={`${drawer}/AUTHORITY`}
            hint="The authority above it. It takes the right to change its rules."
          />
        )}
        {renew.error && <ProblemBox error={renew.error} />}
        <DialogButtons onClose={onClose} action="Renew" busy={renew.isPending} />
      </form>
    </Dialog>
  );
}
