import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMatrixPages } from "../../api/rights";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Empty, Loading } from "../../parts/States";
import { Cell, Legend } from "./Cell";
import { CellDialog } from "./CellDialog";
import { Tabs } from "./Tabs";

// Of a matrix, so much is shown at once.
const columnsShown = 8;
const rowsShown = 25;

// MatrixPage shows people and apps against drawers, once it is asked: asking is in the trail.
export function MatrixPage() {
  const [asked, setAsked] = useState(false);
  const matrix = useMatrixPages(asked);
  const [open, setOpen] = useState<{ subject: string; drawer: string }>();
  const pages = matrix.data?.pages ?? [];
  return (
    <>
      <Tabs />
      <PageHead title="Who can access what">
        People and apps against drawers. A mark says the strongest things; press one for the reason.
      </PageHead>
      {!asked && (
        <Empty title="Asking is in the trail">
          <button type="button" className="btn btn-primary mt-2" onClick={() => setAsked(true)}>
            Show the matrix
          </button>
        </Empty>
      )}
      {asked && matrix.isPending && <Loading what="the matrix" />}
      {matrix.error && <ProblemBox error={matrix.error} />}
      {pages[0] && (
        <>
          <Legend />
          <Grid
            drawers={pages[0].drawers}
            rows={pages.flatMap((p) => p.rows)}
            onOpen={setOpen}
            more={matrix.hasNextPage ? () => void matrix.fetchNextPage() : undefined}
            busy={matrix.isFetchingNextPage}
          />
        </>
      )}
      {open && <CellDialog {...open} onClose={() => setOpen(undefined)} />}
    </>
  );
}

type GridProps = {
  drawers: string[];
  rows: Schemas["MatrixRow"][];
  onOpen: (at: { subject: string; drawer: string }) => void;
  more?: () => void;
  busy: boolean;
};

// Grid shows a part of the matrix: the drawers and people that are filtered for, so many columns and rows at a time.
function Grid({ drawers, rows, onOpen, more, busy }: GridProps) {
  const [who, setWho] = useState("");
  const [what, setWhat] = useState("");
  const [from, setFrom] = useState(0);
  const [most, setMost] = useState(rowsShown);
  const [whoNow, whatNow] = [useDeferredValue(who).toLowerCase(), useDeferredValue(what).toLowerCase()];
  const columns = drawers.map((name, at) => ({ name, at })).filter((d) => d.name.includes(whatNow));
  const shown = columns.slice(from, from + columnsShown);
  const people = rows.filter((r) => r.subject.includes(whoNow));
  const left = people.length - most;
  return (
    <>
      <div className="mb-3 flex flex-wrap items-center gap-3 print:hidden">
        <input
          type="search"
          className="input input-sm w-52"
          placeholder="Filter people and apps"
          aria-label="Filter people and apps"
          value={who}
          onChange={(e) => {
            setWho(e.target.value);
            setMost(rowsShown);
          }}
        />
        <input
          type="search"
          className="input input-sm w-52"
          placeholder="Filter drawers"
          aria-label="Filter drawers"
          value={what}
          onChange={(e) => {
            setWhat(e.target.value);
            setFrom(0);
          }}
        />
        {columns.length > columnsShown && (
          <span className="flex items-center gap-2 text-sm tabular-nums">
            <button
              type="button"
              className="btn btn-outline btn-sm"
              disabled={from === 0}
              onClick={() => setFrom(Math.max(0, from - columnsShown))}
            >
              Previous drawers
            </button>
            {from + 1} to {Math.min(from + columnsShown, columns.length)} of {columns.length}
            <button
              type="button"
              className="btn btn-outline btn-sm"
              disabled={from + columnsShown >= columns.length}
              onClick={() => setFrom(from + columnsShown)}
            >
              Next drawers
            </button>
          </span>
        )}
      </div>
      <Scroll label="Matrix of people and apps by drawers">
        <table className="dense table [&_td]:px-2 [&_th]:px-2">
          <thead>
            <tr>
              <th scope="col" className="align-bottom">
                Who
              </th>
              {shown.map((d) => (
                <th key={d.name} scope="col" className="max-w-28 min-w-24 align-bottom whitespace-normal!">
                  <Link className="link link-hover name" to={`/drawers/${d.name}`}>
                    {d.name}
                  </Link>
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {people.slice(0, most).map((row) => (
              <Row key={row.subject} row={row} columns={shown} onOpen={(drawer) => onOpen({ subject: row.subject, drawer })} />
            ))}
          </tbody>
        </table>
      </Scroll>
      {people.length === 0 && (
        <p className="muted" role="status">
          Nobody matches.
        </p>
      )}
      <div className="mt-3 flex gap-2">
        {left > 0 && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setMost(most + 4 * rowsShown)}>
            Show more: {Math.min(4 * rowsShown, left)} of {left}
          </button>
        )}
        {left <= 0 && more && (
          <button type="button" className="btn btn-outline btn-sm" disabled={busy} onClick={more}>
            Load more people and apps
          </button>
        )}
      </div>
    </>
  );
}

type RowProps = { row: Schemas["MatrixRow"]; columns: { name: string; at: number }[]; onOpen: (drawer: string) => void };

function Row({ row, columns, onOpen }: RowProps) {
  return (
    <tr>
      <th scope="row" className="max-w-72 min-w-44 whitespace-normal!">
        <Link className="link link-hover name font-medium wrap-anywhere" to={`/access/${row.subject}`}>
          {row.subject}
        </Link>
        {row.state !== "active" && (
          <>
            <br />
            <Mark state={row.state} word={row.state.replace("_", " ")} />
          </>
        )}
      </th>
      {columns.map((d) => (
        <td key={d.name}>
          {row.cells[d.at] && (
            <Cell cell={row.cells[d.at] as Schemas["MatrixCell"]} label={`${row.subject} in ${d.name}`} onOpen={() => onOpen(d.name)} />
          )}
        </td>
      ))}
    </tr>
  );
}
