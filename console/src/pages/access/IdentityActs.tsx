import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useConfirm, useSetState } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { ProblemBox } from "../../parts/ProblemBox";

type Identity = Schemas["Identity"];

// ConfirmButton says that somebody whom a colleague registered is who they are said to be.
export function ConfirmButton({ identity }: { identity: Identity }) {
  const confirm = useConfirm(identity.subject);
  const me = useMay().subject;
  const [asking, setAsking] = useState(false);
  if (me === identity.created_by)
    return <p className="muted max-w-64 text-sm">You registered them, so a colleague has to confirm who they are.</p>;
  return (
    <>
      <button type="button" className="btn btn-outline" onClick={() => setAsking(true)}>
        Confirm …
      </button>
      {asking && (
        <Confirm
          title={`Is ${identity.subject} who they say they are?`}
          action="Yes, confirm them"
          busy={confirm.isPending}
          error={confirm.error}
          onYes={() => confirm.mutate(undefined, { onSuccess: () => setAsking(false) })}
          onClose={() => setAsking(false)}
        >
          <p>
            <span className="name">{identity.created_by}</span> registered them, and saw the code with which they enrolled. Until somebody
            else has made sure that they exist, and that it was them who enrolled, what they are given and agree to counts as given to, and
            agreed to by, whoever registered them.
          </p>
        </Confirm>
      )}
    </>
  );
}

export function StateButton({ identity, self }: { identity: Identity; self: boolean }) {
  const set = useSetState(identity.subject);
  const [asking, setAsking] = useState(false);
  const close = () => setAsking(false);
  if (identity.state !== "active") {
    return (
      <>
        {set.error && (
          <div className="basis-full">
            <ProblemBox error={set.error} />
          </div>
        )}
        <button type="button" className="btn btn-outline" disabled={set.isPending} onClick={() => set.mutate("active")}>
          Resume
        </button>
      </>
    );
  }
  const person = identity.subject.startsWith("person:");
  return (
    <>
      <button type="button" className="btn btn-outline" onClick={() => setAsking(true)}>
        Suspend …
      </button>
      {asking && (
        <Confirm
          title={self ? "Suspend yourself?" : `Suspend ${identity.subject}?`}
          action="Suspend"
          busy={set.isPending}
          error={set.error}
          onYes={() => set.mutate("suspended", { onSuccess: close })}
          onClose={close}
        >
          {self && (
            <p className="text-warning font-semibold">You are signed out at once, and cannot undo it: somebody else has to resume you.</p>
          )}
          <p>
            {person ? "Their sessions end at once, and they cannot sign in" : "Its tokens end at once, and it is refused everything"} until
            somebody resumes {person ? "them" : "it"}. Grants and credentials stay as they are.
          </p>
        </Confirm>
      )}
    </>
  );
}
