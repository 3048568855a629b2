import { Search } from "lucide-react";
import { useDeferredValue, useEffect, useId, useState, type KeyboardEvent } from "react";
import { useNavigate } from "react-router";
import type { Schemas } from "../api/client";
import { useFind } from "../api/queries";
import { Dialog } from "./Dialog";
import { ProblemBox } from "./ProblemBox";

type Found = Schemas["Found"];

const placeOf = (f: Found) => {
  if (f.kind === "drawer" || f.kind === "item") return `/drawers/${f.name}`;
  return f.kind === "role" ? `/access/roles#${f.name}` : `/access/${f.name}`;
};

// isTyping reports whether a key goes into something that takes text.
const isTyping = (target: EventTarget | null) =>
  target instanceof HTMLElement && (target.isContentEditable || /^(INPUT|TEXTAREA|SELECT)$/.test(target.tagName));

// Find goes to anything that has a name, from any page: by the button, or by the key /.
export function Find() {
  const [open, setOpen] = useState(false);
  useEffect(() => {
    const onKey = (event: globalThis.KeyboardEvent) => {
      if (
        event.key !== "/" ||
        event.ctrlKey ||
        event.metaKey ||
        event.altKey ||
        isTyping(event.target) ||
        document.querySelector("dialog[open]")
      )
        return;
      event.preventDefault();
      setOpen(true);
    };
    window.addEventListener("keydown", onKey);
    return () => window.removeEventListener("keydown", onKey);
  }, []);
  return (
    <>
      <button type="button" className="btn btn-outline btn-sm font-normal" aria-keyshortcuts="/" onClick={() => setOpen(true)}>
        <Search className="size-4" aria-hidden /> Find{" "}
        <kbd className="kbd kbd-xs hidden sm:inline-flex" aria-hidden>
          /
        </kbd>
      </button>
      {open && <FindDialog onClose={() => setOpen(false)} />}
    </>
  );
}

function FindDialog({ onClose }: { onClose: () => void }) {
  const [typed, setTyped] = useState("");
  const [at, setAt] = useState(0);
  const words = useDeferredValue(typed.trim());
  const found = useFind(words);
  const navigate = useNavigate();
  const id = useId();
  const list = words ? (found.data?.found ?? []) : [];
  const go = (to: string) => {
    onClose();
    void navigate(to);
  };
  const onKeyDown = (event: KeyboardEvent) => {
    if (event.key === "ArrowDown") setAt(Math.min(at + 1, list.length - 1));
    else if (event.key === "ArrowUp") setAt(Math.max(at - 1, 0));
    else if (event.key === "Enter" && list[at]) go(placeOf(list[at]));
    else return;
    event.preventDefault();
  };
  return (
    <Dialog title="Find" settled onClose={onClose}>
      <input
        type="search"
        className="input w-full"
        role="combobox"
        aria-expanded={list.length > 0}
        aria-controls={`${id}-list`}
        autoComplete="off"
        spellCheck={false}
        aria-activedescendant={list[at] ? `${id}-${at}` : undefined}
        aria-label="Name of a drawer, item, person, app, team or role"
        placeholder="A drawer, item, person, app, team or role"
        ref={(input) => input?.focus()}
        value={typed}
        onChange={(e) => {
          setTyped(e.target.value.replace(/^\//, ""));
          setAt(0);
        }}
        onKeyDown={onKeyDown}
      />
      {found.error && words && (
        <div className="mt-3">
          <ProblemBox error={found.error} />
        </div>
      )}
      <div id={`${id}-list`} role="listbox" aria-label="Found" className="mt-3 min-h-40">
        {list.map((f, i) => (
          // The keyboard moves through the list from the input, as a combobox does.
          // eslint-disable-next-line jsx-a11y/click-events-have-key-events
          <div
            key={`${f.kind} ${f.name}`}
            id={`${id}-${i}`}
            role="option"
            aria-selected={i === at}
            tabIndex={-1}
            onClick={() => go(placeOf(f))}
            onMouseMove={() => setAt(i)}
            className={`flex cursor-pointer items-baseline gap-3 rounded px-2 py-1.5 ${i === at ? "bg-base-300" : ""}`}
          >
            <span className="muted w-14 shrink-0 text-sm">{f.kind}</span>
            <span className="min-w-0">
              <span className="name font-medium">{f.name}</span>
              {f.description && <span className="muted block truncate text-sm">{f.description}</span>}
            </span>
          </div>
        ))}
      </div>
      <p role="status" className="muted text-sm">
        {words && found.data && list.length === 0 && "Nothing that you may know of has such a name. "}
        {!words && "Arrow keys choose, Enter opens, Escape closes."}
      </p>
      <div className="mt-2 flex justify-between gap-2">
        <button type="button" className="btn btn-ghost btn-sm" onClick={() => go(`/search?q=${encodeURIComponent(words)}`)}>
          Search items by their properties …
        </button>
        <button type="button" className="btn btn-ghost btn-sm" onClick={onClose}>
          Close
        </button>
      </div>
    </Dialog>
  );
}
