import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useEndGrant, useGive, usePreview, useRoles } from "../../api/rights";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Difference } from "../../parts/Difference";
import { EndChoice, endOf } from "../../parts/EndChoice";
import { Choice, Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { SubjectField } from "../../parts/SubjectField";
import type { Way } from "../../parts/ways";
import { When } from "../../parts/When";
import { GrantConditions } from "./GrantConditions";

// What is known already of the grant that is to be given; the rest is asked for.
type GiveDialogProps = {
  subject?: string;
  role?: string;
  scope?: string;
  days?: string;
  reason?: string;
  onGiven?: () => void;
  onClose: () => void;
};

// GiveDialog gives a grant: what is asked, then what it changes, then, once given, what is unusual about it, and a way to take it back.
export function GiveDialog({ onClose, onGiven, ...known }: GiveDialogProps) {
  const give = useGive();
  const [proposed, setProposed] = useState<Schemas["NewGrant"]>();
  const preview = usePreview(proposed && { give: proposed });
  if (give.data) return <Given given={give.data} onClose={onClose} />;
  const shown = proposed && preview.data;
  return (
    <Dialog
      title={shown ? "What this would change" : known.subject ? `Give ${known.subject} access` : "Give access"}
      wide={Boolean(shown)}
      onClose={onClose}
    >
      {shown && (
        <div className="grid gap-4">
          <p>
            <Sentence of={proposed} />
          </p>
          <Difference of={preview.data} />
          {give.error && <ProblemBox error={give.error} />}
          <div className="flex justify-end gap-2">
            <button type="button" className="btn btn-ghost" onClick={() => setProposed(undefined)}>
              Back
            </button>
            <button
              type="button"
              className="btn btn-primary"
              disabled={give.isPending}
              onClick={() => give.mutate(proposed, { onSuccess: onGiven })}
            >
              {proposed.effect === "deny" ? "Deny it" : "Give it"}
            </button>
          </div>
        </div>
      )}
      <div className={shown ? "hidden" : ""}>
        <GrantForm known={known} error={preview.error} busy={preview.isFetching} onPropose={setProposed} onClose={onClose} />
      </div>
    </Dialog>
  );
}

// Sentence says a grant that is to be given, fully.
function Sentence({ of: g }: { of: Schemas["NewGrant"] }) {
  return (
    <>
      <span className="name">{g.subject}</span> {g.effect === "deny" ? "would be denied everything that" : "would be"} <b>{g.role}</b>
      {g.effect === "deny" && " allows"} on <span className="name">{g.scope}</span>,{" "}
      {g.never_ends ? (
        <b>without an end</b>
      ) : (
        <>
          until <When at={g.not_after} dated />
        </>
      )}
      {g.replaces && (
        <>
          , instead of grant <span className="name">{g.replaces}</span>
        </>
      )}
      .
    </>
  );
}

type GrantFormProps = {
  known: Omit<GiveDialogProps, "onClose" | "onGiven">;
  error: unknown;
  busy: boolean;
  onPropose: (g: Schemas["NewGrant"]) => void;
  onClose: () => void;
};

function GrantForm({ known, error, busy, onPropose, onClose }: GrantFormProps) {
  const roles = useRoles();
  const [role, setRole] = useState(known.role ?? "consumer");
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    onPropose(grantOf(new FormData(event.currentTarget), known.subject));
  };
  return (
    <form className="grid gap-4" onSubmit={submit}>
      {!known.subject && <SubjectField label="To whom" name="subject" required placeholder="app:ticket-api" />}
      <Choice
        label="Role"
        name="role"
        value={role}
        onChange={(e) => setRole(e.target.value)}
        options={roles.data?.roles.map((r) => ({ value: r.name, text: `${r.name}: ${r.summary}` })) ?? [{ value: role, text: role }]}
      />
      <Field
        label="Scope"
        name="scope"
        required
        className="name"
        defaultValue={known.scope}
        hint="Such as ticketing-prod/db-password, ticketing-*/db-* or **[team=ticketing]."
      />
      <EndChoice label="Ends" days={[1, 7, 30, 90, 365]} chosen={known.days ?? "90"} never="never, on purpose" />
      <Field label="Reason" name="reason" defaultValue={known.reason} maxLength={200} />
      <GrantConditions subject={known.subject} />
      {Boolean(error) && <ProblemBox error={error} />}
      <DialogButtons onClose={onClose} action="See what it changes" busy={busy} />
    </form>
  );
}

function grantOf(form: FormData, subject?: string): Schemas["NewGrant"] {
  const text = (name: string) => String(form.get(name) ?? "").trim();
  const grant: Schemas["NewGrant"] = {
    subject: subject ?? text("subject"),
    role: text("role"),
    scope: text("scope"),
    reason: text("reason"),
    ...endOf(form),
  };
  const networks = text("networks")
    .split(/[\s,]+/)
    .filter(Boolean);
  if (networks.length > 0) grant.networks = networks;
  if (text("hours")) grant.hours = text("hours");
  if (text("via")) grant.via = [text("via") as Way];
  if (form.get("needs_reason")) grant.needs_reason = true;
  if (form.get("deny")) grant.effect = "deny";
  if (text("replaces")) grant.replaces = text("replaces");
  return grant;
}

// Given says what is in force, and lets it be taken back while it is looked at.
function Given({ given, onClose }: { given: Schemas["Given"]; onClose: () => void }) {
  const end = useEndGrant();
  const { grant, notes } = given;
  return (
    <Dialog title={end.isSuccess ? "Taken back" : "In force now"} settled onClose={onClose}>
      <p role="status">
        {end.isSuccess ? (
          <>
            <Mark state="ended" word="Ended" />:{" "}
          </>
        ) : (
          <Mark state="usable" word="Given" />
        )}{" "}
        <span className="name">{grant.subject}</span> {grant.effect === "deny" ? "denied" : "is"} <b>{grant.role}</b> on{" "}
        <span className="name">{grant.scope}</span>
        {!end.isSuccess && (
          <>
            ,{" "}
            {grant.not_after ? (
              <>
                until <When at={grant.not_after} dated />
              </>
            ) : (
              "without an end"
            )}
          </>
        )}
        .
      </p>
      {!end.isSuccess && (
        <ul className="text-warning mt-2 font-semibold">
          {notes.map((n) => (
            <li key={n}>Note: {n}</li>
          ))}
        </ul>
      )}
      {end.error && (
        <div className="mt-3">
          <ProblemBox error={end.error} />
        </div>
      )}
      <div className="mt-4 flex justify-end gap-2">
        {!end.isSuccess && (
          <button type="button" className="btn btn-ghost" disabled={end.isPending} onClick={() => end.mutate(grant.id)}>
            Undo
          </button>
        )}
        <button type="button" className="btn btn-primary" onClick={onClose}>
          Done
        </button>
      </div>
    </Dialog>
  );
}
