import { useState, type FormEvent } from "react";
import { Link, useNavigate } from "react-router";
import type { Schemas } from "../../api/client";
import type { Action } from "../../api/may";
import { useRotateKey, useShredDrawer } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { ExportDialog } from "./ExportDialog";
import { RotateDialog } from "./RotateDialog";

// Upkeep is what is rarely done with a drawer: another key, a copy that leaves, and its end.
export function Upkeep({ of, may }: { of: Schemas["Drawer"]; may: (...any: Action[]) => boolean }) {
  const drawer = of.name;
  const rotate = useRotateKey(drawer);
  const [shredding, setShredding] = useState(false);
  const [leaving, setLeaving] = useState(false);
  const [turning, setTurning] = useState(false);
  if (!may("change_rules", "shred", "read_value")) return null;
  return (
    <section aria-label="Upkeep" className="border-base-300 mt-8 flex print:hidden flex-wrap items-center gap-3 border-t pt-4">
      {may("change_rules") && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setTurning(true)}>
          Rotate its key …
        </button>
      )}
      {may("read_value") && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setLeaving(true)}>
          Export …
        </button>
      )}
      {may("shred") && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setShredding(true)}>
          Shred the drawer …
        </button>
      )}
      {rotate.data && (
        <p role="status">
          <Mark
            state={rotate.data.done ? "usable" : "waiting"}
            word={
              rotate.data.done
                ? `It is under key ${rotate.data.key}, and the old one is destroyed`
                : `${rotate.data.left} versions left: rotate again`
            }
          />
        </p>
      )}
      {turning && <RotateDialog drawer={of} rotate={rotate} onClose={() => setTurning(false)} />}
      {leaving && <ExportDialog drawer={drawer} onClose={() => setLeaving(false)} />}
      {shredding && <ShredDrawerDialog drawer={drawer} onClose={() => setShredding(false)} />}
    </section>
  );
}

function ShredDrawerDialog({ drawer, onClose }: { drawer: string; onClose: () => void }) {
  const shred = useShredDrawer(drawer);
  const navigate = useNavigate();
  const left = shred.data?.grants ?? [];
  const ended = shred.data?.old_names ?? [];
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    shred.mutate(String(new FormData(event.currentTarget).get("name")), {
      onSuccess: (r) => {
        if (r.grants.length === 0 && !r.old_names?.length) void navigate("/");
      },
    });
  };
  if (shred.data) {
    return (
      <Dialog title={`${drawer} is shredded`} settled onClose={() => void navigate("/")}>
        <div className="grid gap-4" role="status">
          {left.length > 0 && (
            <>
              <p>Some grants still name it, and would apply to a new drawer with the same name. End them:</p>
              <ul className="list-disc pl-6">
                {left.map((scope, i) => (
                  <li key={`${scope} ${i}`} className="name">
                    {scope}
                  </li>
                ))}
              </ul>
            </>
          )}
          {ended.length > 0 && (
            <>
              <p>Old names in it pointed to items elsewhere, and ended with it. Readers need the new names:</p>
              <ul className="list-disc pl-6">
                {ended.map((old) => (
                  <li key={old.reference}>
                    <span className="name">{old.reference}</span>
                    {old.now && (
                      <>
                        {" "}
                        is now <span className="name">{old.now}</span>
                      </>
                    )}
                  </li>
                ))}
              </ul>
            </>
          )}
          <div className="flex justify-end">
            {left.length > 0 ? (
              <Link className="btn btn-primary" to="/access">
                To the grants
              </Link>
            ) : (
              <Link className="btn btn-primary" to="/">
                To the chest
              </Link>
            )}
          </div>
        </div>
      </Dialog>
    );
  }
  return (
    <Dialog title="Destroy the drawer for good" onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>
          Its key is destroyed, and with it everything that was ever in it. It cannot be recovered from this database.{" "}
          <b>Backups made before still hold it.</b> Everything in it must be retired first.
        </p>
        <Field label={`Type ${drawer}`} name="name" required className="name" autoComplete="off" />
        {shred.error && <ProblemBox error={shred.error} />}
        <DialogButtons onClose={onClose} action="Shred" busy={shred.isPending} />
      </form>
    </Dialog>
  );
}
