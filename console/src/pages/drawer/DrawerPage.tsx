import { useEffect, useState } from "react";
import { useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMayThere } from "../../api/may";
import { useDrawer } from "../../api/queries";
import { Copy } from "../../parts/Copy";
import { Labels } from "../../parts/Labels";
import { Environment, Mark } from "../../parts/Mark";
import { Closed } from "../../parts/Only";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { ruleLines } from "../../parts/rules";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { GiveDialog } from "../access/GiveDialog";
import { NewCertificateDialog } from "../certificates/NewCertificateDialog";
import { KeyDialog } from "../item/KeyDialog";
import { PutDialog } from "../item/PutDialog";
import { DescribeDrawerDialog } from "./DescribeDrawerDialog";
import { ImportDialog } from "./ImportDialog";
import { Items } from "./Items";
import { Reachers } from "./Reachers";
import { RulesDialog } from "./RulesDialog";
import { UnderMaster } from "./UnderMaster";
import { Upkeep } from "./Upkeep";

type Open = "put" | "key" | "certificate" | "rules" | "import" | "describe" | "give";

// DrawerPage lists what is in a drawer, without values.
export function DrawerPage() {
  const { drawer = "" } = useParams();
  const there = useMayThere(drawer);
  const { may } = there;
  const [retired, setRetired] = useState(false);
  const contents = useDrawer(drawer, retired, may("list"));
  const [open, setOpen] = useState<Open>();
  const close = () => setOpen(undefined);
  // The other parts come by themselves, so that a filter looks at all of them.
  const { hasNextPage, isFetchingNextPage, isFetchNextPageError, fetchNextPage } = contents;
  useEffect(() => {
    if (hasNextPage && !isFetchingNextPage && !isFetchNextPageError) void fetchNextPage();
  }, [hasNextPage, isFetchingNextPage, isFetchNextPageError, fetchNextPage]);
  const d = contents.data?.pages[0]?.drawer;
  const items = contents.data?.pages.flatMap((p) => p.items) ?? [];
  const puts = may("write_version");
  return (
    <>
      <PageHead
        above={{ to: "/", text: "the chest" }}
        title={
          <>
            <span className="name">{drawer}</span>
            {d && <Environment of={d.environment} />}
          </>
        }
        aside={
          there.known &&
          !contents.error && (
            <>
              {d && may("change_rules") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("describe")}>
                  Edit details …
                </button>
              )}
              {d && may("change_rules") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("rules")}>
                  Rules …
                </button>
              )}
              {may("grant") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("give")}>
                  Give access …
                </button>
              )}
              {puts && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("import")}>
                  Import …
                </button>
              )}
              {puts && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("key")}>
                  Create a key …
                </button>
              )}
              {puts && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("certificate")}>
                  Certificate …
                </button>
              )}
              {puts && (
                <button type="button" className="btn btn-primary" onClick={() => setOpen("put")}>
                  Put a secret in
                </button>
              )}
            </>
          )
        }
      >
        {d && (
          <p>
            {d.description}
            {d.owner && (
              <>
                {" "}
                · owner <span className="name">{d.owner}</span>
              </>
            )}
          </p>
        )}
        {d && <Labels of={d.labels} />}
        {d && <UnderMaster of={d} />}
        {d?.keys_open && (
          <p className="flex flex-wrap items-center gap-2">
            <Mark state="open" word="Public keys" /> are for anybody: <code className="name text-sm">/api/drawers/{drawer}/jwks</code>
            <Copy text={`${location.origin}/api/drawers/${drawer}/jwks`} what="the address of the public keys" />
          </p>
        )}
        {d && d.approval.items.length > 0 && (
          <p>
            <Mark state="open" word="A second person agrees" /> before {d.approval.of === "persons" ? "a person" : "anybody"} reads{" "}
            <span className="name">{d.approval.items.join(", ")}</span>
          </p>
        )}
      </PageHead>
      {d && <Demands drawer={d} />}
      {d && (
        <label className="mb-3 flex items-center gap-2 text-sm print:hidden">
          <input type="checkbox" className="checkbox checkbox-sm" checked={retired} onChange={(e) => setRetired(e.target.checked)} /> Show
          retired items too
        </label>
      )}
      {there.error && <ProblemBox error={there.error} />}
      {((!there.known && !there.error) || (may("list") && contents.isPending)) && <Loading what={drawer} />}
      {contents.error && <ProblemBox error={contents.error} />}
      {there.known && !may("list") && <Closed what="what is in this drawer, if there is one" needs="viewer" scope={`${drawer}/**`} />}
      {contents.data && items.length === 0 && (
        <Empty title="Nothing in it that you may see">
          {puts ? (
            <>
              <p>Put a secret in here, or with the command line:</p>
              <code className="name">tansu put {drawer}/NAME</code>
            </>
          ) : (
            <p>Whoever has the role depositor or curator here can put something in.</p>
          )}
        </Empty>
      )}
      {items.length > 0 && <Items drawer={drawer} items={items} />}
      {contents.hasNextPage && (
        <p role="status" className="muted mt-3">
          {contents.isFetchNextPageError ? "Not all items could be loaded." : "Loading the other items …"}
        </p>
      )}
      {may("grant", "read_trail") && !contents.error && <Reachers drawer={drawer} />}
      {d && <Upkeep of={d} may={may} />}
      {open === "describe" && d && <DescribeDrawerDialog drawer={d} onClose={close} />}
      {open === "rules" && d && <RulesDialog drawer={d} onClose={close} />}
      {open === "give" && <GiveDialog scope={`${drawer}/**`} onClose={close} />}
      {open === "import" && <ImportDialog drawer={drawer} rules={d?.rules} onClose={close} />}
      {open === "key" && <KeyDialog drawer={drawer} rules={d?.rules} onClose={close} />}
      {open === "certificate" && <NewCertificateDialog drawer={drawer} rules={d?.rules} onClose={close} />}
      {open === "put" && <PutDialog drawer={drawer} rules={d?.rules} onClose={close} />}
    </>
  );
}

// Demands says what the rules are, and which ones follow.
function Demands({ drawer }: { drawer: Schemas["Drawer"] }) {
  const now = ruleLines(drawer.rules);
  if (now.length === 0 && !drawer.next_rules) return null;
  return (
    <section aria-label="Rules" className="panel mb-4 grid gap-x-8 gap-y-3 text-sm md:grid-cols-2">
      <div>
        <h2 className="mb-1 text-base font-semibold">Rules</h2>
        <Lines of={now} />
      </div>
      {drawer.next_rules && (
        <div>
          <h2 className="mb-1 text-base font-semibold">
            <Mark state="waiting" word="New rules apply" /> <When at={drawer.rules_from} />
          </h2>
          <Lines of={ruleLines(drawer.next_rules)} />
        </div>
      )}
    </section>
  );
}

function Lines({ of }: { of: string[] }) {
  if (of.length === 0) return <p className="muted">No rules.</p>;
  return (
    <ul className="list-disc pl-5">
      {of.map((line) => (
        <li key={line}>{line}</li>
      ))}
    </ul>
  );
}
