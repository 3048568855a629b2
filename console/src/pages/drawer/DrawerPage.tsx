import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useDrawer } from "../../api/queries";
import { Labels } from "../../parts/Labels";
import { Environment, Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { ruleLines } from "../../parts/rules";
import { ImportDialog } from "./ImportDialog";
import { RulesDialog } from "./RulesDialog";
import { Upkeep } from "./Upkeep";
import { PutDialog } from "../item/PutDialog";

// DrawerPage lists what is in a drawer, without values.
export function DrawerPage() {
  const { drawer = "" } = useParams();
  const [retired, setRetired] = useState(false);
  const contents = useDrawer(drawer, retired);
  const [putting, setPutting] = useState(false);
  const [dialog, setDialog] = useState<"rules" | "import">();
  const d = contents.data?.pages[0]?.drawer;
  const items = contents.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <PageHead
        above={{ to: "/", text: "the chest" }}
        title={<><span className="name">{drawer}</span>{d && <Environment of={d.environment} />}</>}
        aside={d && <>
          <button type="button" className="btn btn-outline" onClick={() => setDialog("rules")}>Rules …</button>
          <button type="button" className="btn btn-outline" onClick={() => setDialog("import")}>Move a file in …</button>
          <button type="button" className="btn btn-primary" onClick={() => setPutting(true)}>Put a secret in</button>
        </>}
      >
        {d && <p>{d.description}{d.owner && <> · owner <span className="name">{d.owner}</span></>}</p>}
        {d && <Labels of={d.labels} />}
        {d && d.approval.items.length > 0 && <p><Mark state="open" word="A second person agrees" /> before {d.approval.of === "persons" ? "a person" : "anybody"} reads <span className="name">{d.approval.items.join(", ")}</span></p>}
      </PageHead>
      {d && <Demands drawer={d} />}
      {d && <label className="mb-3 flex items-center gap-2 text-sm"><input type="checkbox" className="checkbox checkbox-sm" checked={retired} onChange={(e) => setRetired(e.target.checked)} /> Retired items too</label>}
      {contents.isPending && <Loading what={drawer} />}
      {contents.error && <ProblemBox error={contents.error} />}
      {contents.data && items.length === 0 && (
        <Empty title="Nothing in it that you may see">
          <p>Put a secret in here, or with the command line:</p>
          <code className="name">tansu put {drawer}/NAME</code>
        </Empty>
      )}
      {items.length > 0 && <Items drawer={drawer} items={items} />}
      {contents.hasNextPage && <button type="button" className="btn btn-outline mt-4" disabled={contents.isFetchingNextPage} onClick={() => void contents.fetchNextPage()}>Show more</button>}
      {d && <Upkeep drawer={drawer} />}
      {dialog === "rules" && d && <RulesDialog drawer={d} onClose={() => setDialog(undefined)} />}
      {dialog === "import" && <ImportDialog drawer={drawer} onClose={() => setDialog(undefined)} />}
      {putting && <PutDialog drawer={drawer} onClose={() => setPutting(false)} />}
    </>
  );
}

// Demands says what the rules are, and which ones follow.
function Demands({ drawer }: { drawer: Schemas["Drawer"] }) {
  const now = ruleLines(drawer.rules);
  if (now.length === 0 && !drawer.next_rules) return null;
  return (
    <section aria-label="Rules" className="panel mb-4 grid gap-x-8 gap-y-3 text-sm md:grid-cols-2">
      <div><h2 className="mb-1 text-base font-semibold">Rules</h2><Lines of={now} /></div>
      {drawer.next_rules && <div><h2 className="mb-1 text-base font-semibold"><Mark state="waiting" word="Others begin" /> <When at={drawer.rules_from} /></h2><Lines of={ruleLines(drawer.next_rules)} /></div>}
    </section>
  );
}

function Lines({ of }: { of: string[] }) {
  if (of.length === 0) return <p className="muted">Nothing is demanded.</p>;
  return <ul className="list-disc pl-5">{of.map((line) => <li key={line}>{line}</li>)}</ul>;
}

function Items({ drawer, items }: { drawer: string; items: Schemas["Item"][] }) {
  return (
    <Scroll label="Items">
      <table className="dense table">
        <thead>
          <tr>
            <th scope="col">Item</th><th scope="col">State</th><th scope="col">Current</th><th scope="col">Ends</th>
            <th scope="col">Changed</th><th scope="col">Description</th>
          </tr>
        </thead>
        <tbody>
          {items.map((item) => (
            <tr key={item.name}>
              <td className="max-w-80 min-w-44"><Link className="link link-hover name font-medium" to={`/drawers/${drawer}/${item.name}`}>{item.name}</Link></td>
              <td><Mark state={item.state} /></td>
              <td className="whitespace-nowrap">{item.current ? `version ${item.current} of ${item.versions}` : `none of ${item.versions}`}</td>
              <td><When at={item.ends_at} none="no end" /></td>
              <td><When at={item.changed_at} /><br /><span className="name muted text-sm">{item.changed_by}</span></td>
              <td>{item.description}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
