import { useState } from "react";
import { useMasterKeys, type MasterKey } from "../../api/masters";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { ChangeMasterKeyDialog } from "./ChangeMasterKeyDialog";
import { GiveBackDialog } from "./GiveBackDialog";
import { NewMasterKeyDialog } from "./NewMasterKeyDialog";
import { DestroyMasterKeyDialog, WithdrawDialog } from "./WithdrawDialog";

const origins = { made: "made by the chest", brought: "brought", token: "in token" };

type Act = "withdraw" | "give" | "change" | "destroy";

// MasterKeys is what drawers are under as well as under the root key, and what closes and opens them.
export function MasterKeys({ operates }: { operates: boolean }) {
  const keys = useMasterKeys();
  const [adding, setAdding] = useState(false);
  const [open, setOpen] = useState<{ act: Act; key: MasterKey }>();
  const close = () => setOpen(undefined);
  const list = keys.data?.master_keys ?? [];
  return (
    <section aria-labelledby="master-keys" className="min-w-0">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
        <h2 id="master-keys" className="text-xl font-semibold">
          Master keys
        </h2>
        {operates && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setAdding(true)}>
            Add a master key …
          </button>
        )}
      </div>
      {keys.isPending && <Loading what="the master keys" />}
      {keys.error && <ProblemBox error={keys.error} />}
      {keys.data && list.length === 0 && (
        <Empty title="No master keys">
          <p>
            All drawers are under the root key alone. Under a master key as well, a drawer is closed by whoever takes that key away, and
            opens again when it is given back.
          </p>
        </Empty>
      )}
      {list.length > 0 && (
        <Table
          label="Table of master keys"
          rows={list}
          id={(k) => k.id}
          columns={[
            {
              head: "Key",
              cell: (k) => (
                <>
                  <span className="name font-medium">{k.name}</span>
                  {k.description && <span className="muted block text-sm">{k.description}</span>}
                  <span className="name muted block text-sm">{k.fingerprint}</span>
                </>
              ),
            },
            { head: "State", cell: (k) => <State of={k} /> },
            {
              head: "Origin",
              cell: (k) => (
                <>
                  {origins[k.origin]} {k.token && <span className="name">{k.token}</span>}
                  {k.in_memory && <span className="muted block text-sm">in memory only</span>}
                </>
              ),
            },
            { head: "Owner", className: "name", cell: (k) => k.owner },
            { head: "Drawers", cell: (k) => <Under of={k} /> },
            {
              head: "Change",
              hidden: true,
              cell: (k) => k.manages && <Acts of={k} onAct={(act) => setOpen({ act, key: k })} />,
            },
          ]}
        />
      )}
      {adding && <NewMasterKeyDialog onClose={() => setAdding(false)} />}
      {open?.act === "withdraw" && <WithdrawDialog of={open.key} onClose={close} />}
      {open?.act === "give" && <GiveBackDialog of={open.key} onClose={close} />}
      {open?.act === "change" && <ChangeMasterKeyDialog of={open.key} onClose={close} />}
      {open?.act === "destroy" && <DestroyMasterKeyDialog of={open.key} onClose={close} />}
    </section>
  );
}

function State({ of }: { of: MasterKey }) {
  if (of.state === "at_hand") return <Mark state="usable" word="at hand" />;
  if (of.state === "missing") return <Mark state="closed" word="not given since the unlock" />;
  return (
    <>
      <Mark state="closed" word="withdrawn" /> <When at={of.withdrawn_at} />
      <span className="name muted block text-sm">{of.withdrawn_by}</span>
    </>
  );
}

function Under({ of }: { of: MasterKey }) {
  if (of.drawers.length + of.more_drawers === 0) return <span className="muted">none</span>;
  return (
    <ul>
      {of.drawers.map((d) => (
        <li key={d} className="name">
          {d}
        </li>
      ))}
      {of.more_drawers > 0 && <li className="muted text-sm">{of.more_drawers} that you may not list</li>}
    </ul>
  );
}

function Acts({ of, onAct }: { of: MasterKey; onAct: (act: Act) => void }) {
  const none = of.drawers.length + of.more_drawers === 0;
  const acts: [Act, string][] = [];
  if (of.state !== "at_hand") acts.push(["give", "Give back …"]);
  else if (of.origin !== "made") acts.push(["withdraw", "Withdraw …"]);
  acts.push(["change", "Edit …"]);
  if (none) acts.push(["destroy", "Destroy …"]);
  return (
    <div className="flex flex-wrap justify-end gap-1">
      {acts.map(([act, text]) => (
        <button key={act} type="button" className="btn btn-ghost btn-sm" onClick={() => onAct(act)}>
          {text}
          <span className="sr-only"> {of.name}</span>
        </button>
      ))}
    </div>
  );
}
