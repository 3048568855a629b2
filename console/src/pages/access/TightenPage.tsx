import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useTighten } from "../../api/rights";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { FindingDialog } from "./FindingDialog";
import { Tabs } from "./Tabs";

const kinds: Record<Schemas["Finding"]["kind"], { title: string; text: string }> = {
  owner_left: { title: "Owners who have left", text: "Hand over what they own." },
  no_owner: { title: "Apps without an owner", text: "Nobody answers for them." },
  unused_grant: { title: "Grants never used", text: "Given before the period, and not used in it." },
  wide_scope: { title: "Scopes wider than what was used", text: "The narrower grant replaces the wide one in one step." },
  unused_actions: { title: "Actions never used", text: "A smaller role would do." },
  unseen: { title: "Not seen", text: "People and apps that were not seen in the period." },
  single_manager: { title: "Drawers with a single manager", text: "When that person is away, nobody can give access." },
  unreadable: { title: "Items nobody may read", text: "Either somebody is missing a grant, or the item is not needed any more." },
};

const periods = [
  { days: 30, text: "30 days" },
  { days: 90, text: "90 days" },
  { days: 180, text: "180 days" },
];

// TightenPage lists access that is not used, with what would be narrower. Nothing is done without a press and a yes.
export function TightenPage() {
  const [days, setDays] = useState(30);
  const report = useTighten(days);
  const [chosen, setChosen] = useState<Schemas["Finding"] | null>(null);
  const findings = report.data?.findings ?? [];
  const present = (Object.keys(kinds) as Schemas["Finding"]["kind"][]).filter((k) => findings.some((f) => f.kind === k));
  return (
    <>
      <Tabs />
      <PageHead
        title="Tighten"
        aside={
          <label className="flex items-center gap-2 text-sm font-semibold">
            Unused for
            <select className="select select-sm w-auto" value={days} onChange={(e) => setDays(Number(e.target.value))}>
              {periods.map((p) => (
                <option key={p.days} value={p.days}>
                  {p.text}
                </option>
              ))}
            </select>
          </label>
        }
      >
        Access that was given and, according to the trail, is not used.
      </PageHead>
      {report.isPending && <Loading what="the trail" />}
      {report.error && <ProblemBox error={report.error} />}
      {report.data && findings.length === 0 && <Empty title="Nothing to tighten">All access that was given is used.</Empty>}
      <div className="grid grid-cols-1 gap-10">
        {present.map((kind) => (
          <Findings key={kind} kind={kind} findings={findings.filter((f) => f.kind === kind)} onDo={setChosen} />
        ))}
      </div>
      {chosen && <FindingDialog finding={chosen} onClose={() => setChosen(null)} />}
    </>
  );
}

type FindingsProps = { kind: Schemas["Finding"]["kind"]; findings: Schemas["Finding"][]; onDo: (f: Schemas["Finding"]) => void };

function Findings({ kind, findings, onDo }: FindingsProps) {
  const { title, text } = kinds[kind];
  const may = useMay();
  const used = findings.some((f) => f.grant || f.suspend);
  return (
    <section aria-label={title}>
      <h2 className="text-xl font-semibold">
        {title} <span className="muted font-sans text-base font-normal">{findings.length}</span>
      </h2>
      <p className="muted mb-2">{text}</p>
      <Table
        label={`Table of ${title}`}
        rows={findings}
        id={(f) => f.id}
        find={(f) => `${f.subject} ${f.target} ${f.detail}`}
        columns={[
          {
            head: "Who",
            className: "sm:min-w-44",
            sort: (f) => f.subject || f.target,
            cell: (f) =>
              f.subject ? (
                <Link className="link link-hover name" to={`/access/${f.subject}`}>
                  {f.subject}
                </Link>
              ) : (
                <Link className="link link-hover name" to={`/drawers/${f.target}`}>
                  {f.target}
                </Link>
              ),
          },
          { head: "What", className: "sm:min-w-56", cell: (f) => f.detail },
          used && {
            head: "Last used",
            sort: (f: Schemas["Finding"]) => -new Date(f.last_used ?? 0).getTime(),
            cell: (f: Schemas["Finding"]) => <When at={f.last_used} />,
          },
          {
            head: "Do",
            hidden: true,
            cell: (f) =>
              (f.end || f.suspend || f.instead || f.kind === "owner_left") &&
              may.somewhere("grant", "register") &&
              (f.subject === may.subject ? (
                <span className="muted text-sm">yours: a colleague does it</span>
              ) : (
                <button type="button" className="btn btn-outline btn-xs whitespace-nowrap" onClick={() => onDo(f)}>
                  {verb(f)} …
                  <span className="sr-only">
                    {" "}
                    {f.subject} {f.target}
                  </span>
                </button>
              )),
          },
        ]}
      />
    </section>
  );
}

function verb(f: Schemas["Finding"]): string {
  if (f.instead) return "Narrow";
  if (f.end) return "End";
  return f.suspend ? "Suspend" : "Hand over";
}
