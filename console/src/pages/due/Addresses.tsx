import { useState } from "react";
import { useCalendars, useEndCalendar, useNewCalendar } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { Copy } from "../../parts/Copy";
import { ProblemBox } from "../../parts/ProblemBox";
import { When } from "../../parts/When";

// Addresses are the private addresses at which a calendar program finds what is due; each is shown once.
export function Addresses() {
  const calendars = useCalendars();
  const add = useNewCalendar();
  const end = useEndCalendar();
  const [ending, setEnding] = useState("");
  const made = add.data?.path ? window.location.origin + add.data.path : "";
  return (
    <section className="panel grid gap-3" aria-labelledby="addresses">
      <h2 id="addresses" className="text-xl font-semibold">
        Calendar subscription
      </h2>
      <p className="muted">
        A private address serves this page as iCalendar without signing in. Anyone who has it sees the names and end dates of what you may
        list, but no values. It expires after a year, or when you end it.
      </p>
      {made && (
        <div role="status" className="grid gap-1">
          <div className="bg-base-300 rounded-field flex items-start justify-between gap-2 p-3">
            <code className="name">{made}</code>
            <Copy text={made} what="the address" />
          </div>
          <p className="muted text-sm">It is shown only once.</p>
        </div>
      )}
      {(calendars.data?.calendars ?? []).map((c) => (
        <p key={c.id} className="flex flex-wrap items-center justify-between gap-2">
          <span>
            <code className="name text-sm">{c.id}</code> {c.note} · made <When at={c.created_at} />, ends <When at={c.not_after} />
          </span>
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setEnding(c.id)}>
            End …<span className="sr-only"> {c.id}</span>
          </button>
        </p>
      ))}
      {add.error && <ProblemBox error={add.error} />}
      {ending && (
        <Confirm
          title="End this address?"
          action="End it"
          busy={end.isPending}
          error={end.error}
          onYes={() => end.mutate(ending, { onSuccess: () => setEnding("") })}
          onClose={() => setEnding("")}
        >
          <p>Calendars that use it stop receiving updates.</p>
        </Confirm>
      )}
      <div>
        <button type="button" className="btn btn-outline" disabled={add.isPending} onClick={() => add.mutate("console")}>
          Create an address
        </button>
      </div>
    </section>
  );
}
