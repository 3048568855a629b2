import { useState, type FormEvent } from "react";
import { useMay } from "../../api/may";
import { useAskFor, useRoles } from "../../api/rights";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type AskDialogProps = { subject?: string; scope?: string; wants?: string; onClose: () => void };

// AskDialog requests a grant, for oneself or for an app that one answers for, without having been refused first.
export function AskDialog({ subject, scope = "", wants = "viewer", onClose }: AskDialogProps) {
  const ask = useAskFor();
  const roles = useRoles();
  const [role, setRole] = useState(wants);
  const may = useMay();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "").trim();
    ask.mutate({
      reason: text("reason"),
      grant: { subject: text("subject"), role: text("role"), scope: text("scope"), reason: text("reason"), ...endOf(form) },
    });
  };
  if (ask.data) {
    return (
      <Dialog title="Requested" settled onClose={onClose}>
        <p role="status">
          Request <span className="name">{ask.data.id}</span> is open. A gatekeeper sees it under Requests, and the answer appears there.
        </p>
        <div className="mt-4 flex justify-end">
          <button type="button" className="btn btn-primary" onClick={onClose}>
            Done
          </button>
        </div>
      </Dialog>
    );
  }
  const others = may.ownedApps.filter((app) => app !== subject);
  const options = [
    { value: may.subject, text: `you, ${may.subject}` },
    ...(subject && subject !== may.subject ? [subject, ...others] : others).map((s) => ({ value: s, text: s })),
  ];
  return (
    <Dialog title="Request access" onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <Choice label="For" name="subject" defaultValue={subject} options={options} />
        <Choice
          label="Role"
          name="role"
          value={role}
          onChange={(e) => setRole(e.target.value)}
          options={
            roles.data?.roles.filter((r) => r.name !== "steward").map((r) => ({ value: r.name, text: `${r.name}: ${r.summary}` })) ?? [
              { value: role, text: role },
            ]
          }
        />
        <Field
          label="Scope"
          name="scope"
          required
          className="name"
          defaultValue={scope}
          hint="A drawer with what is in it, such as ticketing-staging/**, or one item."
        />
        <EndChoice label="Until" days={[1, 7, 30, 90]} chosen="30" />
        <Field label="What you need it for" name="reason" required maxLength={200} hint="Whoever answers reads this." />
        {ask.error && <ProblemBox error={ask.error} />}
        <DialogButtons onClose={onClose} action="Send the request" busy={ask.isPending} />
      </form>
    </Dialog>
  );
}
