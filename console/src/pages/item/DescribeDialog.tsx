import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useDescribeItem } from "../../api/queries";
import { DescribedFields, describedOf } from "../../parts/DescribedFields";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { ProblemBox } from "../../parts/ProblemBox";

type DescribeDialogProps = { drawer: string; item: Schemas["Item"]; onClose: () => void };

// DescribeDialog changes what is said about an item; its value and who reads it stay as they are, but for scopes that ask for labels.
export function DescribeDialog({ drawer, item, onClose }: DescribeDialogProps) {
  const change = useDescribeItem(drawer, item);
  const [wrong, setWrong] = useState("");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const said = describedOf(new FormData(event.currentTarget));
    setWrong(typeof said === "string" ? said : "");
    if (typeof said !== "string") change.mutate(said, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Edit ${item.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <DescribedFields of={item} />
        {wrong && (
          <p role="alert" className="text-error font-semibold">
            {wrong}
          </p>
        )}
        {change.error && <ProblemBox error={change.error} />}
        <DialogButtons onClose={onClose} action="Save" busy={change.isPending} />
      </form>
    </Dialog>
  );
}
