import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useUnlockMethods } from "../../api/operation";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import { Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { AddMethodDialog } from "./AddMethodDialog";
import { CurrentDialog } from "./CurrentDialog";

const kinds: Record<string, string> = { passphrase: "a passphrase", key_file: "a key file", hardware: "hardware", shares: "shares" };

// Methods is what opens the chest, and what changes that. Whoever changes it shows what opens the chest now.
export function Methods() {
  const methods = useUnlockMethods();
  const [open, setOpen] = useState<"add" | "root" | Schemas["UnlockMethod"]>();
  const list = methods.data?.methods ?? [];
  return (
    <section aria-labelledby="methods" className="min-w-0">
      <div className="mb-2 flex flex-wrap items-center justify-between gap-2">
        <h2 id="methods" className="text-xl font-semibold">
          Unlock methods
        </h2>
        <div className="flex flex-wrap gap-2">
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen("root")}>
            Rotate the root key
          </button>
          <button type="button" className="btn btn-primary btn-sm" onClick={() => setOpen("add")}>
            Add a method
          </button>
        </div>
      </div>
      {methods.isPending && <Loading what="what opens the chest" />}
      {methods.error && <ProblemBox error={methods.error} />}
      {methods.data && (
        <Table
          label="Table of unlock methods"
          rows={list}
          id={(m) => m.id}
          columns={[
            { head: "Method", className: "name font-medium", cell: (m) => m.name },
            {
              head: "By",
              cell: (m) => (
                <>
                  {kinds[m.kind]}
                  {m.needed > 0 && <Custodians of={m} />}
                </>
              ),
            },
            { head: "Used", cell: (m) => <When at={m.used} /> },
            { head: "Ends", cell: (m) => <When at={m.not_after} none="no end" /> },
            {
              head: "Created",
              cell: (m) => (
                <>
                  <When at={m.created_at} />
                  <span className="name muted block text-sm">{m.created_by}</span>
                </>
              ),
            },
            list.length > 1 && {
              head: "Change",
              hidden: true,
              cell: (m: Schemas["UnlockMethod"]) => (
                <button type="button" className="btn btn-ghost btn-sm" onClick={() => setOpen(m)}>
                  End …<span className="sr-only"> {m.name}</span>
                </button>
              ),
            },
          ]}
        />
      )}
      {open === "add" && <AddMethodDialog onClose={() => setOpen(undefined)} />}
      {open && open !== "add" && <CurrentDialog what={open} onClose={() => setOpen(undefined)} />}
    </section>
  );
}

function Custodians({ of }: { of: Schemas["UnlockMethod"] }) {
  return (
    <>
      , {of.needed} of {of.custodians.length}
      <ul className="mt-1 grid gap-1 text-sm">
        {of.custodians.map((c) => (
          <li key={c.number} className="flex flex-wrap gap-x-2">
            <span className="name">{c.subject}</span>{" "}
            {c.taken ? <Mark state="usable" word="has it" /> : <Mark state="waiting" word="not taken yet" />}
          </li>
        ))}
      </ul>
    </>
  );
}
