import { type FormEvent } from "react";
import { problemOf, type Schemas } from "../../api/client";
import { useSetItemRules, useUseOnly } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field, Tick } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

type StricterDialogProps = { drawer: string; item: Schemas["Item"]; onClose: () => void };

// StricterDialog sets what an item demands beyond its drawer's rules, and whether people are ever shown its value.
export function StricterDialog({ drawer, item, onClose }: StricterDialogProps) {
  const set = useSetItemRules(drawer, item);
  const useOnly = useUseOnly(drawer, item);
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
    <Dialog title={`Stricter rules for ${item.name}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <p className="muted">They hold besides those of {drawer}; of two, the stricter counts. Lengths of time are written 90d, 12h or 1d12h.</p>
        <div className="grid gap-4 sm:grid-cols-2">
          <Field label="Served for, after it is made" name="max_age" defaultValue={r.max_age} placeholder="30d" />
          <Field label="Due, before its end" name="warn" defaultValue={r.warn} placeholder="14d" />
          <Field label="Grace after its end" name="grace" defaultValue={r.grace} placeholder="as the drawer" />
          <Field label="Hosts keep it while the chest is away" name="host_keeps" defaultValue={r.host_keeps} placeholder="as the drawer" />
          <Field label="Stop serving when unread for" name="idle" defaultValue={r.idle} placeholder="never" />
          <Field label="Retired, before it can be shredded" name="retire_for" defaultValue={r.retire_for} placeholder="at once" />
        </div>
        <label className="flex items-center gap-2"><input type="checkbox" name="needs_end" className="checkbox checkbox-sm" defaultChecked={r.needs_end} /> A new version must have an end</label>
        <label className="flex items-center gap-2"><input type="checkbox" name="two_to_shred" className="checkbox checkbox-sm" defaultChecked={r.two_to_shred} /> A second person agrees before it is shredded</label>
        {!item.use_only && (
          <div className="panel flex flex-wrap items-center justify-between gap-3">
            <span>Applications get it, and no person is ever shown it. <b>For good.</b></span>
            <button type="button" className="btn btn-outline btn-sm" disabled={useOnly.isPending} onClick={() => useOnly.mutate(undefined, { onSuccess: onClose })}>Make it for use only</button>
          </div>
        )}
        {asked && <Tick strong name="meant">This is meant</Tick>}
        {(set.error ?? useOnly.error) && <ProblemBox error={set.error ?? useOnly.error} />}
        <DialogButtons onClose={onClose} action="Set them" busy={set.isPending} />
      </form>
    </Dialog>
  );
}
