import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useDecline, useRefusals } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { ReasonDialog } from "../../parts/ReasonDialog";
import { Empty, Loading } from "../../parts/States";
import { useStill } from "../../parts/still";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { GiveDialog } from "../access/GiveDialog";
import { AskDialog } from "./AskDialog";
import { Requests } from "./Requests";

type Group = Schemas["RefusalGroup"];

const questionOf = (r: Group) => `${r.subject} ${r.action} ${r.target}`;

// RefusalsPage has what people ask for, and what was refused and would be refused again, for whoever can do something about it.
export function RefusalsPage({ me }: { me: Schemas["Me"] }) {
  const [asking, setAsking] = useState(false);
  const may = useMay();
  return (
    <>
      <PageHead
        title="Requests and refusals"
        aside={
          <button type="button" className="btn btn-outline" onClick={() => setAsking(true)}>
            Request access …
          </button>
        }
      />
      <Requests me={me} />
      {may.somewhere("grant", "read_trail") && <Refused />}
      {asking && <AskDialog onClose={() => setAsking(false)} />}
    </>
  );
}

const periods = [1, 7, 30, 90];

function Refused() {
  const [days, setDays] = useState(7);
  return (
    <section aria-label="Refusals">
      <div className="mb-3 flex flex-wrap items-end justify-between gap-3">
        <div>
          <h2 className="text-xl font-semibold">Refusals</h2>
          <p className="muted max-w-prose">What people and apps were refused on drawers and items, and would be refused now.</p>
        </div>
        <label className="flex items-center gap-2 text-sm font-semibold">
          Since
          <select className="select select-sm w-auto" value={days} onChange={(e) => setDays(Number(e.target.value))}>
            {periods.map((d) => (
              <option key={d} value={d}>
                {d === 1 ? "yesterday" : `${d} days ago`}
              </option>
            ))}
          </select>
        </label>
      </div>
      <Queue key={days} days={days} />
    </section>
  );
}

function Queue({ days }: { days: number }) {
  const refusals = useRefusals(days);
  const decline = useDecline();
  const { rows, fresh, renew } = useStill(refusals.data?.refusals ?? [], questionOf);
  const [open, setOpen] = useState<{ what: "give" | "decline"; group: Group }>();
  const close = () => setOpen(undefined);
  const declining = open?.what === "decline" ? open.group : undefined;
  const giving = open?.what === "give" ? open.group : undefined;
  return (
    <>
      {refusals.isPending && <Loading what="the refusals" />}
      {refusals.error && <ProblemBox error={refusals.error} />}
      {refusals.data && rows.length === 0 && (
        <Empty title="Nothing is waiting">Nothing was refused lately that would still be refused now.</Empty>
      )}
      {fresh > 0 && (
        <p role="status" className="mb-3">
          <button type="button" className="btn btn-sm btn-outline" onClick={renew}>
            Show {fresh} new
          </button>
        </p>
      )}
      {rows.length > 0 && (
        <Table
          label="Table of refusals"
          rows={rows}
          id={({ row }) => questionOf(row)}
          find={({ row }) => `${questionOf(row)} ${row.reason} ${row.owner} ${row.receipt}`}
          rowClass={({ gone }) => (gone ? "muted" : "")}
          columns={[
            {
              head: "Who",
              className: "sm:min-w-44",
              sort: ({ row }) => row.subject,
              cell: ({ row: r }) => (
                <>
                  <Link className="link link-hover name" to={`/access/${r.subject}`}>
                    {r.subject}
                  </Link>
                  {r.owner && <span className="name muted block text-sm">{r.owner}</span>}
                </>
              ),
            },
            {
              head: "Wanted to",
              className: "sm:min-w-44",
              sort: ({ row }) => row.target,
              cell: ({ row: r }) => (
                <>
                  {r.action.replaceAll("_", " ")}
                  <span className="name block text-sm">{r.target}</span>
                </>
              ),
            },
            { head: "Why not", cell: ({ row: r }) => r.reason.replaceAll("_", " ") },
            { head: "Times", className: "tabular-nums", sort: ({ row }) => -row.count, cell: ({ row: r }) => r.count },
            { head: "Last", sort: ({ row }) => -new Date(row.last).getTime(), cell: ({ row: r }) => <When at={r.last} /> },
            {
              head: "Receipt",
              cell: ({ row: r }) => (
                <Link className="link name text-sm" to={`/receipts/${r.receipt}`}>
                  {r.receipt}
                </Link>
              ),
            },
            {
              head: "What would allow it",
              className: "sm:min-w-52",
              cell: ({ row: r, gone }) => (
                <Remedy
                  of={r}
                  gone={gone}
                  onGive={() => setOpen({ what: "give", group: r })}
                  onDecline={() => setOpen({ what: "decline", group: r })}
                />
              ),
            },
          ]}
        />
      )}
      {giving?.remedy && (
        <GiveDialog
          subject={giving.remedy.subject}
          role={giving.remedy.role}
          scope={giving.remedy.scope}
          reason={`receipt ${giving.receipt}`}
          days="30"
          onClose={close}
        />
      )}
      {declining && (
        <ReasonDialog
          title={`Decline ${declining.subject}`}
          label="Why not?"
          hint="Shown to whoever is refused the same again."
          action="Decline"
          busy={decline.isPending}
          error={decline.error}
          onSay={(because) => decline.mutate({ receipt: declining.receipt, because }, { onSuccess: close })}
          onClose={close}
        />
      )}
    </>
  );
}

// What allows it where no grant would, by why it was refused.
const otherwise: Record<string, string> = {
  approval_needed: "a second person's approval, which they can request",
  condition_failed: "what their grant's condition asks for; the receipt has it",
  reason_needed: "a stated reason",
  denied: "ending the grant that denies it; the receipt has it",
};

// Remedy says the smallest grant that would allow it, and lets it be looked at and given, or declined, by whoever may.
function Remedy({ of: r, gone, onGive, onDecline }: { of: Group; gone: boolean; onGive: () => void; onDecline: () => void }) {
  if (gone) return <Mark state="usable" word="Settled" />;
  return (
    <div className="grid gap-1">
      {r.remedy ? (
        <span>
          to be <b>{r.remedy.role}</b> on <span className="name text-sm">{r.remedy.scope}</span>
        </span>
      ) : (
        <span className="muted">{otherwise[r.reason] ?? "no single grant"}</span>
      )}
      <span className="flex flex-wrap gap-1">
        {r.may_give && (
          <button type="button" className="btn btn-outline btn-xs" onClick={onGive}>
            Allow …<span className="sr-only"> {questionOf(r)}</span>
          </button>
        )}
        {r.may_give && (
          <button type="button" className="btn btn-ghost btn-xs" onClick={onDecline}>
            Decline …<span className="sr-only"> {questionOf(r)}</span>
          </button>
        )}
        {!r.may_give && r.remedy && <span className="muted text-sm">A gatekeeper of that scope can give it.</span>}
      </span>
    </div>
  );
}
