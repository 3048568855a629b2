import { useState } from "react";
import { useAskFor } from "../api/rights";
import { ReasonDialog } from "./ReasonDialog";

// AskFor turns a refusal of one's own into a request that somebody else answers.
export function AskFor({ receipt, seconded }: { receipt: string; seconded?: boolean }) {
  const what = seconded ? "Request approval" : "Request access";
  const ask = useAskFor();
  const [open, setOpen] = useState(false);
  if (ask.data)
    return (
      <p role="status" className="text-sm">
        Request <span className="name">{ask.data.id}</span> is open. The answer appears under Requests.
      </p>
    );
  return (
    <>
      <button type="button" className="btn btn-outline btn-sm justify-self-start" onClick={() => setOpen(true)}>
        {what} …
      </button>
      {open && (
        <ReasonDialog
          title={what}
          label="Why do you need it?"
          hint={
            seconded ? "A second person reads this and agrees or declines; then you do it again." : "A gatekeeper reads this and decides."
          }
          action="Send the request"
          busy={ask.isPending}
          error={ask.error}
          onSay={(reason) => ask.mutate({ receipt, reason }, { onSuccess: () => setOpen(false) })}
          onClose={() => setOpen(false)}
        />
      )}
    </>
  );
}
