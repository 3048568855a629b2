import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useItem, useReaders } from "../../api/queries";
import { CompareDialog } from "./CompareDialog";
import { EndDialog } from "./EndDialog";
import { Copy } from "../../parts/Copy";
import { Labels } from "../../parts/Labels";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { ruleLines } from "../../parts/rules";
import { Acts } from "./Acts";
import { Aliases } from "./Aliases";
import { Holders } from "./Holders";
import { Paths } from "./Paths";
import { HowToUse } from "./HowToUse";
import { MoveDialog } from "./MoveDialog";
import { PutDialog } from "./PutDialog";
import { StricterDialog } from "./StricterDialog";
import { TimeLine } from "./TimeLine";
import { Readers } from "./Readers";
import { shapes } from "./shapes";
import { Reveal } from "./Reveal";

// ItemPage shows an item and its versions; the value stays masked until it is asked for.
export function ItemPage() {
  const { drawer = "", item = "" } = useParams();
  const history = useItem(drawer, item);
  const [putting, setPutting] = useState(false);
  const [moving, setMoving] = useState(false);
  const [stricter, setStricter] = useState(false);
  const [asked, setAsked] = useState(false);
  const readers = useReaders(drawer, item, asked);
  const it = history.data?.item;
  return (
    <>
      <PageHead
        above={{ to: `/drawers/${drawer}`, text: drawer }}
        title={<><span className="name">{item}</span>{it && <span className="font-sans text-base"><Mark state={it.state} /></span>}</>}
        aside={it && <><Acts drawer={drawer} item={it} />{!it.retired_at && <button type="button" className="btn btn-outline" onClick={() => setStricter(true)}>Stricter …</button>}{!it.retired_at && <button type="button" className="btn btn-outline" onClick={() => setMoving(true)}>Rename or move …</button>}{!it.retired_at && <button type="button" className="btn btn-primary" onClick={() => setPutting(true)}>Add a version</button>}</>}
      >
        {it && <p>{it.description}{it.owner && <> · owner <span className="name">{it.owner}</span></>}</p>}
        {it && it.shape !== "text" && <p>{shapes[it.shape].text}</p>}
        {it && <Labels of={it.labels} />}
        {it?.use_only && <p><Mark state="open" word="For use only" />: applications get its value, and no person is ever shown it</p>}
        {it && ruleLines(it.rules).length > 0 && <p>{ruleLines(it.rules).join(" ")}</p>}
        {it?.approval && <p><Mark state="open" word="A second person agrees" /> before its value is read</p>}
        <p className="flex items-center gap-2"><code className="name text-sm">{drawer}/{item}</code><Copy text={`${drawer}/${item}`} what="the reference" /></p>
      </PageHead>
      {history.isPending && <Loading what={item} />}
      {history.error && <><ProblemBox error={history.error} /><div className="mt-6"><Reveal reference={`${drawer}/${item}`} /></div></>}
      {history.data && it && (
        <div className="grid grid-cols-1 gap-8">
          {it.use_only ? null : <Reveal key={it.current} reference={`${drawer}/${item}`} version={it.current} />}
          <HowToUse reference={`${drawer}/${item}`} />
          <Versions drawer={drawer} item={it} versions={history.data.versions} readers={readers.data?.readers ?? []} />
          <Aliases list={history.data.aliases} />
          <Readers drawer={drawer} item={item} current={it.current} asked={asked} onAsk={() => setAsked(true)} />
          <Holders target={`${drawer}/${item}`} />
          <Paths target={`${drawer}/${item}`} />
        </div>
      )}
      {stricter && it && <StricterDialog drawer={drawer} item={it} onClose={() => setStricter(false)} />}
      {moving && <MoveDialog drawer={drawer} item={item} onClose={() => setMoving(false)} />}
      {putting && it && <PutDialog drawer={drawer} item={it} fields={history.data?.versions[0]?.fields} onClose={() => setPutting(false)} />}
    </>
  );
}

type VersionsProps = { drawer: string; item: Schemas["Item"]; versions: Schemas["Version"][]; readers: Schemas["Reader"][] };

function Versions({ drawer, item, versions, readers }: VersionsProps) {
  const [comparing, setComparing] = useState(false);
  const [ending, setEnding] = useState<Schemas["Version"] | null>(null);
  return (
    <section aria-labelledby="versions">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="versions" className="text-xl font-semibold">Versions</h2>
        {versions.length > 1 && <button type="button" className="btn btn-outline btn-sm" onClick={() => setComparing(true)}>Compare two …</button>}
      </div>
      {comparing && <CompareDialog versions={versions} onClose={() => setComparing(false)} />}
      {ending && <EndDialog drawer={drawer} item={item.name} version={ending} onClose={() => setEnding(null)} />}
      <TimeLine versions={versions} readers={readers} />
      <Scroll label="Table of versions">
        <table className="dense table">
          <thead>
            <tr>
              <th scope="col">Version</th><th scope="col">State</th><th scope="col">Size</th><th scope="col">Written</th>
              <th scope="col">Served from</th><th scope="col">Until</th><th scope="col">Note</th><th scope="col">Value</th><th scope="col"><span className="sr-only">Do</span></th>
            </tr>
          </thead>
          <tbody>
            {versions.map((v) => (
              <tr key={v.version} className={v.current ? "bg-base-200" : ""}>
                <td className="name font-medium">@{v.version}</td>
                <td><Mark state={v.current ? "current" : v.state} word={item.held === v.version ? "held" : undefined} /></td>
                <td className="whitespace-nowrap">{v.fields.length === 0 ? `${v.size} bytes` : v.fields.map((f) => <span key={f.name} className="block text-sm"><span className="name">{f.name}</span> {f.size}</span>)}{v.ends_in_newline && <><br /><span className="muted text-sm">ends in a newline</span></>}</td>
                <td><When at={v.created_at} /><br /><span className="name muted text-sm">{v.created_by}</span></td>
                <td><When at={v.not_before} none="at once" /></td>
                <td>
                  <When at={v.ends_at} none="no end" />
                  {v.ends_at !== v.not_after && <span className="muted block text-sm">by its age</span>}
                  {v.state !== "shredded" && !item.retired_at && (
                    <button type="button" className="btn btn-ghost btn-xs -ml-2 block" onClick={() => setEnding(v)}>
                      Change …<span className="sr-only"> when @{v.version} ends</span>
                    </button>
                  )}
                </td>
                <td>{v.note}</td>
                <td>{!v.current && v.state !== "shredded" && !item.use_only && <Reveal reference={`${drawer}/${item.name}@${v.version}`} version={v.version} small />}</td>
                <td><div className="flex flex-wrap items-center gap-1"><Acts drawer={drawer} item={item} version={v} />{v.state !== "shredded" && <Link className="btn btn-ghost btn-xs" to={`/drawers/${drawer}/${item.name}@${v.version}/exposure`}>Got out …</Link>}</div></td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}
