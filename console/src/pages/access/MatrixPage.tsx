import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMatrix } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Empty, Loading } from "../../parts/States";
import { CellDialog } from "./CellDialog";
import { Tabs } from "./Tabs";
import { words } from "./words";

// MatrixPage shows every person and app against every drawer, once it is asked: asking is in the trail.
export function MatrixPage() {
  const [asked, setAsked] = useState(false);
  const matrix = useMatrix(asked);
  const [open, setOpen] = useState<{ subject: string; drawer: string } | null>(null);
  return (
    <>
      <Tabs />
      <PageHead title="Who reaches what">Every person and app against every drawer. A mark says the strongest things; press one for the reason.</PageHead>
      {!asked && <Empty title="Asking is in the trail"><button type="button" className="btn btn-primary mt-2" onClick={() => setAsked(true)}>Show the matrix</button></Empty>}
      {asked && matrix.isPending && <Loading what="the matrix" />}
      {matrix.error && <ProblemBox error={matrix.error} />}
      {matrix.data && <>
        <Legend />
        <Scroll label="Matrix of people and apps by drawers">
          <table className="dense table [&_td]:px-2 [&_th]:px-2">
            <thead>
              <tr><th scope="col" className="align-bottom">Who</th>{matrix.data.drawers.map((d) => <th key={d} scope="col" className="max-w-28 min-w-24 align-bottom whitespace-normal!"><Link className="link link-hover name" to={`/drawers/${d}`}>{d}</Link></th>)}</tr>
            </thead>
            <tbody>{matrix.data.rows.map((row) => <Row key={row.subject} row={row} drawers={matrix.data.drawers} onOpen={(drawer) => setOpen({ subject: row.subject, drawer })} />)}</tbody>
          </table>
        </Scroll>
      </>}
      {open && <CellDialog {...open} onClose={() => setOpen(null)} />}
    </>
  );
}

type RowProps = { row: Schemas["MatrixRow"]; drawers: string[]; onOpen: (drawer: string) => void };

function Row({ row, drawers, onOpen }: RowProps) {
  return (
    <tr>
      <th scope="row" className="min-w-44"><Link className="link link-hover name font-medium" to={`/access/${row.subject}`}>{row.subject}</Link>{row.state !== "active" && <><br /><Mark state={row.state} word={row.state.replace("_", " ")} /></>}</th>
      {row.cells.map((cell, i) => <td key={drawers[i]}><Cell cell={cell} label={`${row.subject} in ${drawers[i]}`} onOpen={() => onOpen(drawers[i] ?? "")} /></td>)}
    </tr>
  );
}

function Cell({ cell, label, onOpen }: { cell: Schemas["MatrixCell"]; label: string; onOpen: () => void }) {
  const shown = words.filter((w) => w.actions.some((a) => cell.actions.includes(a)));
  if (shown.length === 0) return <span className="muted" aria-label="nothing">·</span>;
  return (
    <button type="button" className="grid cursor-pointer gap-0.5 text-left" onClick={onOpen} aria-label={`${label}: ${shown.map((w) => w.word).join(", ")}; why`}>
      {shown.map((w) => {
        const own = w.actions.filter((a) => cell.actions.includes(a));
        const conditional = own.every((a) => cell.conditions.includes(a));
        const partial = own.every((a) => cell.partial.includes(a));
        return <span key={w.word} className={`badge badge-sm whitespace-nowrap ${w.strong ? "badge-primary" : "badge-outline"} ${conditional ? "border-dashed" : ""}`}>{w.word}{partial && " some"}{conditional && " if"}</span>;
      })}
    </button>
  );
}

function Legend() {
  return (
    <p className="muted mb-3 flex flex-wrap gap-x-6 gap-y-1 text-sm">
      <span><b>reads</b> values or uses keys</span><span><b>writes</b> versions</span><span><b>manages</b> items and rules</span><span><b>grants</b> access</span><span><b>sees</b> names and metadata</span><span><b>audits</b> the trail</span>
      <span><b>some</b>: not everything in the drawer</span><span><b>if</b>: under conditions, or with a second person</span>
    </p>
  );
}
