import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import type { useMayThere } from "../../api/may";
import { Copy } from "../../parts/Copy";
import { Mark } from "../../parts/Mark";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { Acts } from "./Acts";
import { CompareDialog } from "./CompareDialog";
import { EndDialog } from "./EndDialog";
import { Reveal } from "./Reveal";
import { TimeLine } from "./TimeLine";

type Version = Schemas["Version"];
type VersionsProps = {
  drawer: string;
  item: Schemas["Item"];
  versions: Version[];
  readers: Schemas["Reader"][];
  there: ReturnType<typeof useMayThere>;
};

// Versions are those of an item, newest first, over time and as a list, with what the viewer may do with each.
export function Versions({ drawer, item, versions, readers, there }: VersionsProps) {
  const { may } = there;
  const [comparing, setComparing] = useState(false);
  const [ending, setEnding] = useState<Version>();
  const served = (v: Version) => ["usable", "grace"].includes(v.state) && !["retired", "idle"].includes(item.state);
  const reveals = (v: Version) => !v.current && served(v) && !item.use_only && (!item.key || item.key.given_out) && there.reads;
  return (
    <section aria-labelledby="versions">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="versions" className="text-xl font-semibold">
          Versions
        </h2>
        {versions.length > 1 && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setComparing(true)}>
            Compare two …
          </button>
        )}
      </div>
      {comparing && <CompareDialog versions={versions} onClose={() => setComparing(false)} />}
      {ending && <EndDialog drawer={drawer} item={item.name} version={ending} onClose={() => setEnding(undefined)} />}
      <TimeLine versions={versions} readers={readers} />
      <Table
        label="Table of versions"
        rows={versions}
        id={(v) => String(v.version)}
        find={(v) => `@${v.version} ${v.state} ${v.note} ${v.created_by}`}
        rowClass={(v) => (v.current ? "bg-base-200" : "")}
        columns={[
          { head: "Version", className: "name font-medium", cell: (v) => `@${v.version}` },
          {
            head: "State",
            cell: (v) => <Mark state={v.current ? "current" : v.state} word={item.held === v.version ? "held" : undefined} />,
          },
          item.key
            ? versions.some((v) => v.public_key) && {
                head: "Public half",
                cell: (v) => v.public_key && <Copy text={JSON.stringify(v.public_key)} what={`the public half of @${v.version}`} />,
              }
            : { head: "Size", cell: (v) => <Size of={v} /> },
          {
            head: "Written",
            cell: (v) => (
              <>
                <When at={v.created_at} />
                <span className="name muted block text-sm">{v.created_by}</span>
              </>
            ),
          },
          { head: "Served from", cell: (v) => <When at={v.not_before} none="immediately" /> },
          {
            head: "Until",
            cell: (v) => (
              <>
                <When at={v.ends_at} none="no end" />
                {v.ends_at !== v.not_after && <span className="muted block text-sm">by its age</span>}
                {v.state !== "shredded" && !item.retired_at && may("change_item") && (
                  <button type="button" className="btn btn-ghost btn-xs -ml-2 block" onClick={() => setEnding(v)}>
                    Change …<span className="sr-only"> when @{v.version} ends</span>
                  </button>
                )}
              </>
            ),
          },
          { head: "Note", cell: (v) => v.note },
          versions.some(reveals) && {
            head: "Value",
            cell: (v) =>
              reveals(v) && (
                <Reveal
                  reference={`${drawer}/${item.name}@${v.version}`}
                  version={v.version}
                  needsReason={there.needsReason("read_value")}
                  small
                />
              ),
          },
          {
            head: "Do",
            hidden: true,
            cell: (v) => (
              <div className="flex flex-wrap items-center gap-1">
                <Acts drawer={drawer} item={item} version={v} may={may} />
                {v.state !== "shredded" && may("read_trail") && (
                  <Link className="btn btn-ghost btn-xs" to={`/drawers/${drawer}/${item.name}@${v.version}/exposure`}>
                    Report exposure …
                  </Link>
                )}
              </div>
            ),
          },
        ]}
      />
    </section>
  );
}

function Size({ of: v }: { of: Version }) {
  return (
    <>
      {v.fields.length === 0 ? (
        <span className="whitespace-nowrap">{v.size} bytes</span>
      ) : (
        v.fields.map((f) => (
          <span key={f.name} className="block text-sm">
            <span className="name">{f.name}</span> {f.size}
          </span>
        ))
      )}
      {v.ends_in_newline && <span className="muted block text-sm">ends in a newline</span>}
    </>
  );
}
