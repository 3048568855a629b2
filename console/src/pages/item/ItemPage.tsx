import { useState } from "react";
import { useParams } from "react-router";
import { useMayThere } from "../../api/may";
import { useItem } from "../../api/queries";
import { useReaders } from "../../api/rights";
import { Copy } from "../../parts/Copy";
import { Labels } from "../../parts/Labels";
import { Mark } from "../../parts/Mark";
import { Closed } from "../../parts/Only";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { ruleLines } from "../../parts/rules";
import { Loading } from "../../parts/States";
import { GiveDialog } from "../access/GiveDialog";
import { SignsFor } from "../certificates/SignsFor";
import { Certified } from "../certificates/Certified";
import { Acts } from "./Acts";
import { Aliases } from "./Aliases";
import { DescribeDialog } from "./DescribeDialog";
import { Holders } from "./Holders";
import { HowToUse } from "./HowToUse";
import { KeyPanel, KeyUsers } from "./KeyPanel";
import { asking } from "./keyWords";
import { MoveDialog } from "./MoveDialog";
import { Paths } from "./Paths";
import { PutDialog } from "./PutDialog";
import { Readers } from "./Readers";
import { shapes } from "./shapes";
import { StricterDialog } from "./StricterDialog";
import { Value } from "./Value";
import { Versions } from "./Versions";

type Open = "put" | "move" | "rules" | "describe" | "give";

// ItemPage shows an item and its versions; the value stays masked until it is asked for.
export function ItemPage() {
  const { drawer = "", item = "" } = useParams();
  const target = `${drawer}/${item}`;
  const there = useMayThere(target);
  const { may } = there;
  const history = useItem(drawer, item, may("see_metadata"));
  const [open, setOpen] = useState<Open>();
  const close = () => setOpen(undefined);
  const [asked, setAsked] = useState(false);
  const readers = useReaders(drawer, item, asked);
  const it = history.data?.item;
  const kept = it && !it.retired_at;
  return (
    <>
      <PageHead
        above={{ to: `/drawers/${drawer}`, text: drawer }}
        title={
          <>
            <span className="name">{item}</span>
            {it && (
              <span className="font-sans text-base">
                <Mark state={it.state} />
              </span>
            )}
          </>
        }
        aside={
          it && (
            <>
              <Acts drawer={drawer} item={it} may={may} />
              {kept && may("change_item") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("describe")}>
                  Edit details …
                </button>
              )}
              {kept && may("change_rules") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("rules")}>
                  Item rules …
                </button>
              )}
              {kept && may("change_item") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("move")}>
                  Rename or move …
                </button>
              )}
              {may("grant") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("give")}>
                  Give access …
                </button>
              )}
              {kept && it.kind !== "authority" && it.kind !== "profile" && may("write_version") && (
                <button type="button" className="btn btn-primary" onClick={() => setOpen("put")}>
                  {it.key ? "Rotate …" : "Add a version"}
                </button>
              )}
            </>
          )
        }
      >
        {it && (
          <p>
            {it.description}
            {it.owner && (
              <>
                {" "}
                · owner <span className="name">{it.owner}</span>
              </>
            )}
          </p>
        )}
        {it && it.shape !== "text" && it.kind === "secret" && <p>{shapes[it.shape].text}</p>}
        {it && <Labels of={it.labels} />}
        {it?.use_only && (
          <p>
            <Mark state="open" word="For use only" />: applications get its value, and no person is ever shown it
          </p>
        )}
        {it && ruleLines(it.rules).length > 0 && <p>{ruleLines(it.rules).join(" ")}</p>}
        {it?.approval && (
          <p>
            <Mark state="open" word="A second person agrees" /> before its value is read
          </p>
        )}
        <p className="flex items-center gap-2">
          <code className="name text-sm">{target}</code>
          <Copy text={target} what="the reference" />
        </p>
      </PageHead>
      {there.error && <ProblemBox error={there.error} />}
      {(!there.known || (may("see_metadata") && history.isPending)) && !there.error && <Loading what={item} />}
      {history.error && <ProblemBox error={history.error} />}
      {there.known && !may("see_metadata") && (
        <div className="grid grid-cols-1 gap-6">
          {may("read_value") && (
            <>
              <p>You may read its value, but not see its description and versions.</p>
              <Value target={target} there={there} />
            </>
          )}
          {!may("read_value") && <Closed what="this item, if there is one" needs="viewer" scope={target} />}
        </div>
      )}
      {history.data && it && (
        <div className="grid grid-cols-1 gap-8">
          {it.certificate && <Certified drawer={drawer} item={it} versions={history.data.versions} may={may} />}
          <Value target={target} item={it} there={there} />
          {it.key && <KeyPanel drawer={drawer} item={it} current={history.data.versions.find((v) => v.current)} may={may} />}
          {it.key?.key_ops.includes("sign") && history.data.versions[0]?.public_key && (
            <SignsFor drawer={drawer} item={it} rules={may("write_version") && may("change_rules")} />
          )}
          {(it.kind === "secret" || it.key?.given_out) && <HowToUse reference={target} />}
          <Versions drawer={drawer} item={it} versions={history.data.versions} readers={readers.data?.readers ?? []} there={there} />
          <Aliases list={history.data.aliases} may={may("change_item")} />
          {it.key && may("read_trail") && <KeyUsers drawer={drawer} item={item} current={it.current} />}
          {(it.kind === "secret" || it.kind === "certificate") && (
            <Readers drawer={drawer} item={item} current={it.current} asked={asked} onAsk={() => setAsked(true)} />
          )}
          {may("grant", "read_trail") && (
            <>
              <Holders target={target} {...asking(it)} />
              <Paths target={target} {...asking(it)} />
            </>
          )}
        </div>
      )}
      {open === "describe" && it && <DescribeDialog drawer={drawer} item={it} onClose={close} />}
      {open === "rules" && it && <StricterDialog drawer={drawer} item={it} onClose={close} />}
      {open === "move" && <MoveDialog drawer={drawer} item={item} onClose={close} />}
      {open === "give" && <GiveDialog scope={target} days="7" onClose={close} />}
      {open === "put" && it && <PutDialog drawer={drawer} item={it} fields={history.data?.versions[0]?.fields} onClose={close} />}
    </>
  );
}
