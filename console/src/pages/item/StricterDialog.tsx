import { useState, type FormEvent } from "react";
import { problemOf, type Schemas } from "../../api/client";
import { useSetItemRules, useUseOnly } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field, Tick } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type StricterDialogProps = { drawer: string; item: Schemas["Item"]; onClose: () => void };

// StricterDialog sets what an item demands beyond its drawer's rules, and whether people are ever shown its value.
export function StricterDialog({ drawer, item, onClose }: StricterDialogProps) {
  const set = useSetItemRules(drawer, item);
  const useOnly = useUseOnly(drawer, item);
  const [asking, setAsking] = useState(false);
  const r = item.own_rules;
  const problem = set.error && problemOf(set.error);
  const asked = problem?.field === "allow_refusals" || problem?.field === "allow_again" ? problem.field : "";
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const rules: Schemas["Rules"] = {};
    for (const name of ["max_age", "warn", "grace", "host_keeps", "idle", "retire_for"] as const) {
      const text = String(form.get(name) ?? "").trim();
      if (text) rules[name] = text;
    }
    if (form.get("needs_end")) rules.needs_end = true;
    if (form.get("two_to_shred")) rules.two_to_shred = true;
    const meant = form.get("meant") ? { [asked]: true } : {};
    set.mutate({ rules, ...meant }, { onSuccess: onClose });
  };
  return (
    <Dialog title={`Rules of ${item.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <p className="muted">
          They apply in addition to those of {drawer}; of two, the stricter one counts. Write durations as 90d, 12h or 1d12h.
        </p>
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="A version is served for" name="max_age" defaultValue={r.max_age} placeholder="30d" />
          <Field label="Warn before the end" name="warn" defaultValue={r.warn} placeholder="14d" />
          <Field label="Grace after its end" name="grace" defaultValue={r.grace} placeholder="as the drawer" />
          <Field label="Agents may keep it for" name="host_keeps" defaultValue={r.host_keeps} placeholder="as the drawer" />
          <Field label="Stop serving when unread for" name="idle" defaultValue={r.idle} placeholder="never" />
          <Field label="Retired for, before shredding" name="retire_for" defaultValue={r.retire_for} placeholder="at once" />
        </div>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="needs_end" className="checkbox checkbox-sm" defaultChecked={r.needs_end} /> A new version must have
          an end
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="two_to_shred" className="checkbox checkbox-sm" defaultChecked={r.two_to_shred} /> A second person
          agrees before it is shredded
        </label>
        {!item.use_only && (
          <div className="panel flex flex-wrap items-center justify-between gap-3">
            <span>
              Applications get it, and no person is ever shown it. <b>For good.</b>
            </span>
            <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsking(true)}>
              Make it for use only …
            </button>
          </div>
        )}
        {asked && (
          <Tick strong name="meant">
            {asked === "allow_again" ? "Yes, serve the ended version again" : "Yes, stop serving it now"}
          </Tick>
        )}
        {set.error && <ProblemBox error={set.error} />}
        <DialogButtons onClose={onClose} action="Set the rules" busy={set.isPending} />
      </form>
      {asking && (
        <Confirm
          title={`Never show ${item.name} to a person again?`}
          action="Make it for use only, for good"
          busy={useOnly.isPending}
          error={useOnly.error}
          onYes={() => useOnly.mutate(undefined, { onSuccess: onClose })}
          onClose={() => setAsking(false)}
        >
          <p>Applications still get its value. No person is ever shown it again, whatever role they have, and nobody can take this back.</p>
        </Confirm>
      )}
    </Dialog>
  );
}
