import { useState } from "react";
import type { Schemas } from "../../api/client";
import { useAct } from "../../api/queries";
import { ProblemBox } from "../../parts/ProblemBox";
import { ShredDialog } from "./ShredDialog";

type ActName = Schemas["Act"]["act"];
type ActsProps = { drawer: string; item: Schemas["Item"]; version?: Schemas["Version"] };

const words: Record<ActName, string> = {
  suspend: "Suspend", resume: "Resume", promote: "Promote", hold: "Hold", release: "Release", retire: "Retire", restore: "Restore", shred: "Shred …",
};

// Acts are the buttons for what can be done with an item or a version in the state that it is in.
export function Acts({ drawer, item, version }: ActsProps) {
  const act = useAct(drawer, item.name);
  const [shredding, setShredding] = useState(false);
  const possible = version ? ofVersion(item, version) : ofItem(item);
  const name = `${drawer}/${item.name}${version ? `@${version.version}` : ""}`;
  const press = (what: ActName) => (what === "shred" ? setShredding(true) : act.mutate({ act: what, ...(version && { version: version.version }) }));
  return (
    <>
      {possible.map((what) => (
        <button key={what} type="button" className={version ? "btn btn-ghost btn-xs" : "btn btn-outline"} disabled={act.isPending} onClick={() => press(what)}>
          {words[what]}<span className="sr-only"> {name}</span>
        </button>
      ))}
      {act.error && <ProblemBox error={act.error} />}
      {shredding && <ShredDialog drawer={drawer} item={item.name} name={name} version={version?.version} onClose={() => setShredding(false)} />}
    </>
  );
}

function ofItem(item: Schemas["Item"]): ActName[] {
  if (item.retired_at) return ["restore", "shred"];
  const acts: ActName[] = [item.suspended || item.state === "idle" ? "resume" : "suspend", "retire"];
  return item.held ? ["release", ...acts] : acts;
}

function ofVersion(item: Schemas["Item"], v: Schemas["Version"]): ActName[] {
  if (item.retired_at || v.state === "shredded") return [];
  const acts: ActName[] = [];
  if (v.state === "staged") acts.push("promote");
  if (v.state === "usable" && item.held !== v.version) acts.push("hold");
  acts.push(v.state === "suspended" ? "resume" : "suspend");
  return v.current ? acts : [...acts, "shred"];
}
