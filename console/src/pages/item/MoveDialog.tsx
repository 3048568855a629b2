import { type FormEvent } from "react";
import { useNavigate } from "react-router";
import { useMay } from "../../api/may";
import { useDrawers, useMove } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Choice, Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

const aliases = [
  { value: "", text: "not any more" },
  { value: "7d", text: "7 days" },
  { value: "30d", text: "30 days" },
  { value: "90d", text: "90 days" },
];

// MoveDialog renames an item or moves it to another drawer; references to the old name break or go on for a while.
export function MoveDialog({ drawer, item, onClose }: { drawer: string; item: string; onClose: () => void }) {
  const move = useMove(drawer, item);
  const navigate = useNavigate();
  const drawers = useDrawers(useMay().somewhere("list"));
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const text = (name: string) => String(form.get(name) ?? "");
    const to = { drawer: text("drawer"), name: text("name"), ...(text("alias") && { alias: text("alias") }) };
    move.mutate(to, {
      onSuccess: () => {
        onClose();
        void navigate(`/drawers/${to.drawer}/${to.name}`);
      },
    });
  };
  return (
    <Dialog title={`Rename or move ${item}`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={submit} autoComplete="off">
        <p>Its versions and history move with it. In another drawer it is encrypted under that drawer's key.</p>
        <Field label="Drawer" name="drawer" defaultValue={drawer} required className="name" list="drawers-to" />
        <datalist id="drawers-to">
          {(drawers.data?.drawers ?? []).map((d) => (
            <option key={d.name} value={d.name} />
          ))}
        </datalist>
        <Field label="Name" name="name" defaultValue={item} required className="name" />
        <Choice label="The old name works for" name="alias" defaultValue="30d" options={aliases} />
        <p className="muted text-sm">Until then, whoever may read the old name still may, and this page shows who does.</p>
        {move.error && <ProblemBox error={move.error} />}
        <DialogButtons onClose={onClose} action="Move" busy={move.isPending} />
      </form>
    </Dialog>
  );
}
