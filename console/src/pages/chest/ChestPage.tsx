import { Plus } from "lucide-react";
import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useDrawers } from "../../api/queries";
import { Environment, Mark } from "../../parts/Mark";
import { Closed } from "../../parts/Only";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { FirstApp, FirstHours } from "./FirstHours";
import { NewDrawerDialog } from "./NewDrawerDialog";

type Drawer = Schemas["Drawer"];

// From so many drawers on, fronts are small, and there is a filter.
const many = 12;

// ChestPage draws the chest: a front for every drawer, sized by what is in it while there are few, and what is due first.
export function ChestPage({ me }: { me: Schemas["Me"] }) {
  const may = useMay();
  const lists = may.somewhere("list");
  const makes = may.somewhere("change_rules");
  const drawers = useDrawers(lists);
  const [adding, setAdding] = useState(false);
  const [typed, setTyped] = useState("");
  const filter = useDeferredValue(typed).toLowerCase();
  const list = [...(drawers.data?.drawers ?? [])].sort((a, b) => b.overdue - a.overdue || b.due - a.due || a.name.localeCompare(b.name));
  const shown = list.filter((d) => `${d.name} ${d.environment} ${d.owner} ${d.description}`.toLowerCase().includes(filter));
  const small = list.length >= many;
  return (
    <>
      <PageHead
        title="The chest"
        aside={
          <>
            {small && (
              <input
                type="search"
                className="input input-sm w-56 self-center"
                placeholder="Filter drawers"
                aria-label="Filter drawers"
                value={typed}
                onChange={(e) => setTyped(e.target.value)}
              />
            )}
            {makes && small && (
              <button type="button" className="btn btn-outline" onClick={() => setAdding(true)}>
                <Plus className="size-4" aria-hidden /> New drawer
              </button>
            )}
          </>
        }
      >
        {drawers.data && <Summary drawers={list} />}
      </PageHead>
      {me.steward && <FirstHours />}
      {!me.steward && drawers.data && list.length <= 2 && may.chest("register") && <FirstApp drawers={list.length} />}
      {!lists && <Closed what="any drawer" needs="viewer" />}
      {!lists && may.ownedApps.length > 0 && <AnswersFor apps={may.ownedApps} />}
      {lists && drawers.isPending && <Loading what="the chest" />}
      {drawers.error && <ProblemBox error={drawers.error} />}
      {drawers.data && list.length === 0 && (
        <Empty title="No drawers yet">
          <p>
            {makes ? "A drawer holds the secrets of one application in one environment." : "Somebody with the role curator can create one."}
          </p>
          {makes && (
            <button type="button" className="btn btn-primary mt-3" onClick={() => setAdding(true)}>
              New drawer
            </button>
          )}
        </Empty>
      )}
      {shown.length > 0 && (
        <ul className={`chest ${small ? "chest-small" : ""}`} aria-label="Drawers">
          {shown.map((d) => (
            <Front key={d.name} drawer={d} small={small} />
          ))}
          {makes && !small && (
            <li className="contents">
              <button type="button" className="front front-blank" onClick={() => setAdding(true)}>
                <Plus className="size-5" aria-hidden /> New drawer
              </button>
            </li>
          )}
        </ul>
      )}
      {list.length > 0 && shown.length === 0 && (
        <p className="muted" role="status">
          No drawer matches “{typed}”.
        </p>
      )}
      {adding && <NewDrawerDialog onClose={() => setAdding(false)} />}
    </>
  );
}

// AnswersFor leads an owner who may see no drawer to the apps whose sign-in methods they add.
function AnswersFor({ apps }: { apps: string[] }) {
  return (
    <section className="panel mt-6" aria-label="What you answer for">
      <p>You answer for these apps. On its page you add how an app signs in, see what it may read, and request access for it.</p>
      <ul className="mt-2 list-disc pl-6">
        {apps.map((app) => (
          <li key={app}>
            <Link className="link name" to={`/access/${app}`}>
              {app}
            </Link>
          </li>
        ))}
      </ul>
    </section>
  );
}

function Summary({ drawers }: { drawers: Drawer[] }) {
  const total = (count: (d: Drawer) => number) => drawers.reduce((sum, d) => sum + count(d), 0);
  const due = total((d) => d.due);
  const overdue = total((d) => d.overdue);
  return (
    <p>
      {drawers.length} drawer{drawers.length === 1 ? "" : "s"}, {total((d) => d.items)} item{total((d) => d.items) === 1 ? "" : "s"}
      {overdue > 0 && (
        <>
          , <Mark state="overdue" word={`${overdue} overdue`} />
        </>
      )}
      {due > 0 && (
        <>
          ,{" "}
          <Link className="link-hover link" to="/due">
            <Mark state="due" word={`${due} due soon`} />
          </Link>
        </>
      )}
    </p>
  );
}

const sizes: [number, string][] = [
  [8, "front-xl"],
  [4, "front-l"],
  [2, "front-m"],
  [0, "front-s"],
];

function Front({ drawer, small }: { drawer: Drawer; small: boolean }) {
  const size = small ? "front-small" : (sizes.find(([least]) => drawer.items >= least)?.[1] ?? "front-s");
  return (
    <li className="contents">
      <Link to={`/drawers/${drawer.name}`} className={`front ${size} ${drawer.environment === "production" ? "front-production" : ""}`}>
        <span className="flex items-start justify-between gap-2">
          <span className="name font-medium">{drawer.name}</span>
          <Environment of={drawer.environment} />
        </span>
        {!small && <span className="pull mb-6" aria-hidden />}
        <span className="flex flex-wrap items-end justify-between gap-x-4 gap-y-1 pb-1 text-sm">
          <span>{drawer.items === 0 ? "empty" : `${drawer.items} item${drawer.items === 1 ? "" : "s"}`}</span>
          <span className="flex gap-3">
            {drawer.master_key && drawer.master_key_state !== "at_hand" && <Mark state="closed" word="closed" />}
            {drawer.overdue > 0 && <Mark state="overdue" word={`${drawer.overdue} overdue`} />}
            {drawer.due > 0 && <Mark state="due" word={`${drawer.due} due`} />}
          </span>
        </span>
      </Link>
    </li>
  );
}
