import { useEffect, useRef, useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useSetRules, useTryRules } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field, Tick } from "../../parts/Field";
import { localTime } from "../../parts/localTime";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { effectLines } from "../../parts/rules";
import { When } from "../../parts/When";
import { Table } from "../../parts/Table";

type RulesDialogProps = { drawer: Schemas["Drawer"]; onClose: () => void };

const owners = [
  { value: "", text: "nobody has to" },
  { value: "any", text: "somebody" },
  { value: "person", text: "a person" },
  { value: "team", text: "a team" },
];

// rulesOf reads the form; what is empty demands nothing.
function rulesOf(form: FormData): Schemas["Rules"] {
  const text = (name: string) => String(form.get(name) ?? "").trim();
  const rules: Schemas["Rules"] = {};
  for (const name of ["max_age", "warn", "grace", "idle", "retire_for", "host_keeps", "recipe"] as const)
    if (text(name)) rules[name] = text(name);
  if (text("keep")) rules.keep = Number(text("keep"));
  if (text("owner")) rules.owner = text("owner") as Schemas["Rules"]["owner"];
  if (form.get("needs_end")) rules.needs_end = true;
  if (form.get("two_to_shred")) rules.two_to_shred = true;
  return rules;
}

// RulesDialog sets what a drawer demands, after a look at what that does to what is there.
export function RulesDialog({ drawer, onClose }: RulesDialogProps) {
  const form = useRef<HTMLFormElement>(null);
  const preview = useTryRules(drawer);
  const set = useSetRules(drawer);
  const [meant, setMeant] = useState(false);
  const [again, setAgain] = useState(false);
  const r = drawer.next_rules ?? drawer.rules;
  const asked = (): Schemas["NewRules"] => {
    const given = new FormData(form.current ?? undefined);
    const from = String(given.get("from") ?? "");
    return { rules: rulesOf(given), ...(from && { from: new Date(from).toISOString() }) };
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    set.mutate({ ...asked(), ...(meant && { allow_refusals: true }), ...(again && { allow_again: true }) }, { onSuccess: onClose });
  };
  const effect = preview.data;
  const error = set.error ?? preview.error;
  return (
    <Dialog title={`Rules of ${drawer.name}`} wide onClose={onClose}>
      <form ref={form} className="grid gap-4" onSubmit={submit} onChange={() => preview.reset()} autoComplete="off">
        <p className="muted">Write durations as 90d, 12h or 1d12h. An empty field means no rule.</p>
        <div className="grid gap-4 sm:grid-cols-2 lg:grid-cols-3">
          <Field label="A version is served for" name="max_age" defaultValue={r.max_age} placeholder="90d" />
          <Field label="Warn before the end" name="warn" defaultValue={r.warn} placeholder="14d" />
          <Field
            label="Grace after its end"
            name="grace"
            defaultValue={r.grace}
            placeholder="none"
            hint="30d at most; each read is marked."
          />
          <Field
            label="Agents may keep it for"
            name="host_keeps"
            defaultValue={r.host_keeps}
            placeholder="not at all"
            hint="While the chest is away; 7d at most."
          />
          <Field label="Stop serving when unread for" name="idle" defaultValue={r.idle} placeholder="never" />
          <Field label="Versions kept" name="keep" type="number" min={0} max={1000} defaultValue={r.keep || ""} placeholder="all" />
          <Field label="Retired for, before shredding" name="retire_for" defaultValue={r.retire_for} placeholder="at once" />
          <Field label="Recipe for generated values" name="recipe" defaultValue={r.recipe} placeholder="characters:32" className="name" />
          <Choice label="Who must own an item" name="owner" defaultValue={r.owner ?? ""} options={owners} />
          <Field
            label="Apply from"
            name="from"
            type="datetime-local"
            defaultValue={localTime(drawer.rules_from)}
            hint="Leave empty for now. Until then, the current rules apply."
          />
        </div>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="needs_end" className="checkbox checkbox-sm" defaultChecked={r.needs_end} /> A new version must have
          an end
        </label>
        <label className="flex items-center gap-2">
          <input type="checkbox" name="two_to_shred" className="checkbox checkbox-sm" defaultChecked={r.two_to_shred} /> A second person
          agrees before anything is shredded
        </label>
        <div>
          <button
            type="button"
            className="btn btn-outline"
            disabled={preview.isPending}
            onClick={() => preview.mutate({ ...asked(), preview: true })}
          >
            Preview
          </button>
        </div>
        {effect && <Effect report={effect} />}
        {effect && effect.stops > 0 && (
          <label className="flex items-center gap-2 font-semibold">
            <input type="checkbox" className="checkbox checkbox-sm" checked={meant} onChange={(e) => setMeant(e.target.checked)} /> Yes,
            stop serving {effect.stops === 1 ? "this item" : `these ${effect.stops} items`} now
          </label>
        )}
        {effect && effect.again > 0 && (
          <Tick strong checked={again} onChange={(e) => setAgain(e.target.checked)}>
            Yes, serve {effect.again === 1 ? "this item" : `these ${effect.again} items`} again
          </Tick>
        )}
        {error && <ProblemBox error={error} />}
        <DialogButtons onClose={onClose} action="Set the rules" busy={set.isPending} />
      </form>
    </Dialog>
  );
}

// Stops says when, or that it is at once: the chest gives the moment of its answer then.
function Stops({ at }: { at: string }) {
  const [now] = useState(() => Date.now());
  return new Date(at).getTime() <= now + 1000 ? <>at once</> : <When at={at} />;
}

function Effect({ report }: { report: Schemas["RulesReport"] }) {
  const shown = useRef<HTMLDivElement>(null);
  useEffect(() => {
    void shown.current?.scrollIntoView({ block: "nearest" }); // which is a promise in newer browsers, and no clean-up
  }, [report]);
  if (report.items.length === 0)
    return (
      <p role="status">
        <Mark state="usable" word="No change" /> to what is there now.
      </p>
    );
  return (
    <div role="status" className="grid scroll-mb-20 gap-2" ref={shown}>
      <Table
        label="What the rules do"
        rows={report.items}
        id={(it) => it.reference}
        find={(it) => it.reference}
        columns={[
          { head: "Item", className: "name", sort: (it) => it.reference, cell: (it) => it.reference },
          {
            head: "Not served any more",
            cell: (it) =>
              it.stops ? (
                <>
                  <Mark state={it.because === "idle" ? "idle" : "ended"} word={it.because === "idle" ? "unread" : "too old"} />{" "}
                  <Stops at={it.stops} />
                </>
              ) : (
                <span className="muted">no change</span>
              ),
          },
          { head: "Also", cell: (it) => effectLines(it).join("; ") },
        ]}
      />
      {report.more > 0 && <p className="muted">and {report.more} more</p>}
    </div>
  );
}
