import type { FormEvent } from "react";
import { useDestroyMasterKey, useMasterKey, useWithdrawMasterKey, type MasterKey } from "../../api/masters";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";

const typed = (event: FormEvent<HTMLFormElement>) => {
  event.preventDefault();
  return String(new FormData(event.currentTarget).get("name"));
};

// WithdrawDialog takes a master key away, once it has said whom that concerns and its exact name is typed.
export function WithdrawDialog({ of, onClose }: { of: MasterKey; onClose: () => void }) {
  const one = useMasterKey(of.id);
  const withdraw = useWithdrawMasterKey(of.id);
  return (
    <Dialog title={`Withdraw master key ${of.name}?`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(e) => withdraw.mutate(typed(e), { onSuccess: onClose })}>
        <p>
          The chest forgets it, and <b>nobody reads or changes anything</b> in the drawers under it until it is given back, whatever they
          were granted. If nobody has the key any more, what is in them is lost.
        </p>
        {one.isPending && <Loading what="whom it concerns" />}
        {one.error && <ProblemBox error={one.error} />}
        {one.data && <Concerned of={one.data} />}
        <Field label={`Type ${of.name}`} name="name" required className="name" autoComplete="off" />
        {withdraw.error && <ProblemBox error={withdraw.error} />}
        <DialogButtons onClose={onClose} action="Withdraw" busy={withdraw.isPending} />
      </form>
    </Dialog>
  );
}

function Concerned({ of }: { of: MasterKey }) {
  const drawers = of.drawers.length + of.more_drawers;
  return (
    <dl className="bg-base-200 rounded-box grid gap-3 p-4 text-sm">
      <div>
        <dt className="font-semibold">
          {drawers === 1 ? "1 drawer" : `${drawers} drawers`} with {of.items === 1 ? "1 item" : `${of.items} items`}
        </dt>
        {of.drawers.map((d) => (
          <dd key={d} className="name">
            {d}
          </dd>
        ))}
        {of.more_drawers > 0 && <dd className="muted">{of.more_drawers} that you may not list</dd>}
      </div>
      <div>
        <dt className="font-semibold">Who read there in the last 7 days</dt>
        {of.readers.map((r) => (
          <dd key={r} className="name">
            {r}
          </dd>
        ))}
        {of.more_readers > 0 && <dd className="muted">{of.more_readers} whom you may not know of</dd>}
        {of.readers.length + of.more_readers === 0 && <dd className="muted">nobody</dd>}
      </div>
    </dl>
  );
}

// DestroyMasterKeyDialog forgets one for good that nothing is under.
export function DestroyMasterKeyDialog({ of, onClose }: { of: MasterKey; onClose: () => void }) {
  const destroy = useDestroyMasterKey(of.id);
  return (
    <Dialog title={`Destroy master key ${of.name}?`} onClose={onClose}>
      <form className="grid gap-4" onSubmit={(e) => destroy.mutate(typed(e), { onSuccess: onClose })}>
        <p>No drawer is under it. Backups from when some were need it still, together with what unlocks the chest.</p>
        <Field label={`Type ${of.name}`} name="name" required className="name" autoComplete="off" />
        {destroy.error && <ProblemBox error={destroy.error} />}
        <DialogButtons onClose={onClose} action="Destroy" busy={destroy.isPending} />
      </form>
    </Dialog>
  );
}
