import { Plus } from "lucide-react";
import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useDrawers } from "../../api/queries";
import { Environment, Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { SearchBox } from "../search/SearchBox";
import { NewDrawerDialog } from "./NewDrawerDialog";

// ChestPage draws the chest: a front for every drawer, sized by what is in it.
export function ChestPage() {
  const drawers = useDrawers();
  const [adding, setAdding] = useState(false);
  const list = drawers.data?.drawers ?? [];
  return (
    <>
      <PageHead title="The chest" aside={list.length > 0 && <SearchBox />}>
        {drawers.data && <Summary drawers={list} />}
      </PageHead>
      {drawers.isPending && <Loading what="the chest" />}
      {drawers.error && <ProblemBox error={drawers.error} />}
      {drawers.data && list.length === 0 && (
        <Empty title="No drawer that you may see">
          <p>Somebody who keeps the chest can make one, or grant you the role viewer on one.</p>
          <button type="button" className="btn btn-outline mt-3" onClick={() => setAdding(true)}>New drawer</button>
        </Empty>
      )}
      {list.length > 0 && (
        <ul className="chest" aria-label="Drawers">
          {list.map((d) => <Front key={d.name} drawer={d} />)}
          <li className="contents"><button type="button" className="front front-blank" onClick={() => setAdding(true)}><Plus className="size-5" aria-hidden /> New drawer</button></li>
        </ul>
      )}
      {adding && <NewDrawerDialog onClose={() => setAdding(false)} />}
    </>
  );
}

function Summary({ drawers }: { drawers: Schemas["Drawer"][] }) {
  const total = (count: (d: Schemas["Drawer"]) => number) => drawers.reduce((sum, d) => sum + count(d), 0);
  const due = total((d) => d.due);
  const overdue = total((d) => d.overdue);
  return (
    <p>
      {drawers.length} drawers, {total((d) => d.items)} items
      {overdue > 0 && <>, <Mark state="overdue" word={`${overdue} overdue`} /></>}
      {due > 0 && <>, <Mark state="due" word={`${due} due within 14 days`} /></>}
    </p>
  );
}

const sizes: [number, string][] = [[8, "front-xl"], [4, "front-l"], [2, "front-m"], [0, "front-s"]];

function Front({ drawer }: { drawer: Schemas["Drawer"] }) {
  const size = sizes.find(([least]) => drawer.items >= least)?.[1] ?? "front-s";
  return (
    <li className="contents">
      <Link to={`/drawers/${drawer.name}`} className={`front ${size} ${drawer.environment === "production" ? "front-production" : ""}`}>
        <span className="flex items-start justify-between gap-2">
          <span className="name font-medium">{drawer.name}</span>
          <Environment of={drawer.environment} />
        </span>
        <span className="pull mb-6" aria-hidden />
        <span className="flex flex-wrap items-end justify-between gap-x-4 gap-y-1 pb-1 text-sm">
          <span>{drawer.items === 0 ? "empty" : `${drawer.items} item${drawer.items === 1 ? "" : "s"}`}</span>
          <span className="flex gap-3">
            {drawer.overdue > 0 && <Mark state="overdue" word={`${drawer.overdue} overdue`} />}
            {drawer.due > 0 && <Mark state="due" word={`${drawer.due} due`} />}
          </span>
        </span>
      </Link>
    </li>
  );
}
