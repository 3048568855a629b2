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
import { PutDialog } from "../item/PutDialog";

// DrawerPage lists what is in a drawer, without values.
export function DrawerPage() {
  const { drawer = "" } = useParams();
  const [retired, setRetired] = useState(false);
  const contents = useDrawer(drawer, retired);
  const [putting, setPutting] = useState(false);
  const d = contents.data?.drawer;
  return (
    <>
      <PageHead
        above={{ to: "/", text: "the chest" }}
        title={<><span className="name">{drawer}</span>{d && <Environment of={d.environment} />}</>}
        aside={d && <button type="button" className="btn btn-primary" onClick={() => setPutting(true)}>Put a secret in</button>}
      >
        {d && <p>{d.description}{d.owner && <> · owner <span className="name">{d.owner}</span></>}</p>}
        {d && <Labels of={d.labels} />}
        {d && d.approval.items.length > 0 && <p><Mark state="open" word="A second person agrees" /> before {d.approval.of === "persons" ? "a person" : "anybody"} reads <span className="name">{d.approval.items.join(", ")}</span></p>}
      </PageHead>
      {d && <label className="mb-3 flex items-center gap-2 text-sm"><input type="checkbox" className="checkbox checkbox-sm" checked={retired} onChange={(e) => setRetired(e.target.checked)} /> Retired items too</label>}
      {contents.isPending && <Loading what={drawer} />}
      {contents.error && <ProblemBox error={contents.error} />}
      {contents.data && contents.data.items.length === 0 && (
        <Empty title="Nothing in it that you may see">
          <p>Put a secret in here, or with the command line:</p>
          <code className="name">tansu put {drawer}/NAME</code>
        </Empty>
      )}
      {contents.data && contents.data.items.length > 0 && <Items drawer={drawer} items={contents.data.items} />}
      {putting && <PutDialog drawer={drawer} onClose={() => setPutting(false)} />}
    </>
  );
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
              <td><When at={item.not_after} none="no end" /></td>
              <td><When at={item.changed_at} /><br /><span className="name muted text-sm">{item.changed_by}</span></td>
              <td>{item.description}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Scroll>
  );
}
