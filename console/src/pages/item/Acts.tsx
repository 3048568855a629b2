import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { Action } from "../../api/may";
import { useAct } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { ProblemBox } from "../../parts/ProblemBox";
import { ShredDialog } from "./ShredDialog";

type ActName = Schemas["Act"]["act"];
type ActsProps = { drawer: string; item: Schemas["Item"]; version?: Schemas["Version"]; may: (...any: Action[]) => boolean };

// An act's word on its button, the action that it takes, and what happens by it, for those that take something away.
type Kind = { word: string; action: Action; happens?: (name: string, item: Schemas["Item"]) => string };

const kinds: Record<ActName, Kind> = {
  suspend: {
    word: "Suspend",
    action: "change_item",
    happens: (name) => `${name} is not served to anybody from now on, until somebody resumes it. Applications that need it fail.`,
  },
  resume: { word: "Resume", action: "change_item" },
  promote: {
    word: "Promote",
    action: "write_version",
    happens: (name, item) => `${name} becomes the current version, and is served from now on to everybody who asks for ${item.name}.`,
  },
  hold: {
    word: "Hold",
    action: "change_item",
    happens: (name, item) =>
      `${name} stays the current version of ${item.name}, whatever newer ones are added, until somebody releases it.`,
  },
  release: {
    word: "Release",
    action: "change_item",
    happens: (_, item) => `The newest version of ${item.name} that may be served is served from now on.`,
  },
  retire: {
    word: "Retire",
    action: "retire",
    happens: (name, item) =>
      `${name} is not served any more, and goes out of the lists. It can be restored until it is shredded. ` +
      (item.current ? "Applications that need it fail." : ""),
  },
  restore: { word: "Restore", action: "retire" },
  shred: { word: "Shred", action: "shred" },
};

// Acts are the buttons for what the viewer may do with an item or a version in the state that it is in.
export function Acts({ drawer, item, version, may }: ActsProps) {
  const act = useAct(drawer, item.name);
  const [asked, setAsked] = useState<ActName>();
  const possible = (version ? ofVersion(item, version) : ofItem(item)).filter((what) => may(kinds[what].action));
  const name = `${drawer}/${item.name}${version ? `@${version.version}` : ""}`;
  const close = () => setAsked(undefined);
  const doIt = (what: ActName) => act.mutate({ act: what, ...(version && { version: version.version }) }, { onSuccess: close });
  const press = (what: ActName) => (what === "shred" || kinds[what].happens ? setAsked(what) : doIt(what));
  return (
    <>
      {possible.map((what) => (
        <button
          key={what}
          type="button"
          className={version ? "btn btn-ghost btn-xs" : "btn btn-outline"}
          disabled={act.isPending}
          onClick={() => press(what)}
        >
          {kinds[what].word}
          {(what === "shred" || kinds[what].happens) && " …"}
          <span className="sr-only"> {name}</span>
        </button>
      ))}
      {act.error && !asked && (
        <div className="basis-full">
          <ProblemBox error={act.error} />
        </div>
      )}
      {asked === "shred" && <ShredDialog drawer={drawer} item={item.name} name={name} version={version?.version} onClose={close} />}
      {asked && asked !== "shred" && (
        <Confirm
          title={`${kinds[asked].word} ${version ? `version ${version.version} of ${item.name}` : item.name}?`}
          action={kinds[asked].word}
          busy={act.isPending}
          error={act.error}
          onYes={() => doIt(asked)}
          onClose={close}
        >
          <p>{kinds[asked].happens?.(name, item)}</p>
        </Confirm>
      )}
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
