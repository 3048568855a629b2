import { useEffect, useEffectEvent, useId, useRef, useState, type ReactNode } from "react";
import { createPortal } from "react-dom";

// once says that the dialog shows something that is shown only now; settled, that what was typed was taken; covers, that nothing
// behind it is to be seen.
type DialogProps = {
  title: string;
  wide?: boolean;
  once?: boolean;
  settled?: boolean;
  covers?: boolean;
  onClose: () => void;
  children: ReactNode;
};

// Dialog uses the browser's own modal, which keeps the focus inside. It stands at the end of the page, so that it inherits nothing. What
// was typed in it is thrown away only on purpose: Escape asks first. The focus goes back to where it came from, or to the page's heading
// if that is gone.
export function Dialog({ title, wide, once, settled, covers, onClose, children }: DialogProps) {
  const ref = useRef<HTMLDialogElement>(null);
  const id = useId();
  const [typed, setTyped] = useState(false);
  const [asked, setAsked] = useState(false);
  useEffect(() => {
    const from = document.activeElement;
    if (from && from !== document.body && !from.closest("dialog")) page.from = from;
    ref.current?.showModal();
    return () => giveFocusBack(from);
  }, []);
  const leave = useEffectEvent(() => {
    if (once || (typed && !settled)) setAsked(true);
    else onClose();
  });
  useEffect(() => {
    const dialog = ref.current;
    const onKeyDown = (event: KeyboardEvent) => {
      if (event.key !== "Escape" || dialog !== [...document.querySelectorAll("dialog[open]")].at(-1)) return;
      event.preventDefault(); // the browser would close it, whatever is in it
      leave();
    };
    const onCancel = (event: Event) => {
      if (event.target !== dialog) return; // a file's choice that was cancelled bubbles here, too
      event.preventDefault();
      leave();
    };
    document.addEventListener("keydown", onKeyDown); // the focus may be nowhere, when the button that had it is busy
    dialog?.addEventListener("cancel", onCancel);
    return () => {
      document.removeEventListener("keydown", onKeyDown);
      dialog?.removeEventListener("cancel", onCancel);
    };
  }, []);
  // What is inside a portal bubbles to where it stands in React's tree: another dialog's keys and changes are not this one's.
  return createPortal(
    <dialog
      ref={ref}
      className={`modal ${covers ? "bg-base-200 backdrop:bg-base-200" : ""}`}
      aria-labelledby={id}
      onInput={(event) => {
        event.stopPropagation();
        setTyped(true);
      }}
      onChange={(event) => event.stopPropagation()}
      onSubmit={(event) => event.stopPropagation()}
    >
      <div className={`modal-box bg-base-100 text-base-content border-base-300 border ${wide ? "max-w-4xl" : "max-w-xl"}`}>
        <h2 id={id} className="mb-4 text-xl font-semibold">
          {title}
        </h2>
        {asked && (
          <div role="alert" className="border-warning bg-base-200 mb-4 flex flex-wrap items-center justify-between gap-3 border-l-4 p-3">
            <span>{once ? "This is shown only now. Have you kept it?" : "What you typed would be lost."}</span>
            <span className="flex gap-2">
              <button type="button" className="btn btn-sm" ref={(button) => button?.focus()} onClick={() => setAsked(false)}>
                {once ? "Not yet" : "Keep editing"}
              </button>
              <button type="button" className="btn btn-ghost btn-sm" onClick={onClose}>
                {once ? "I have kept it" : "Discard"}
              </button>
            </span>
          </div>
        )}
        {children}
      </div>
    </dialog>,
    document.body,
  );
}

// What on the page the focus was on before a dialog opened; another dialog may have taken that one's place meanwhile.
const page: { from: Element | null } = { from: null };

function giveFocusBack(from: Element | null) {
  // After what follows from the closing is drawn: what was pressed may be gone by then.
  requestAnimationFrame(() => {
    if (document.activeElement && document.activeElement !== document.body) return;
    const under = [...document.querySelectorAll("dialog[open]")].at(-1);
    const back = under ? (under.contains(from) ? from : null) : page.from;
    if (back instanceof HTMLElement && back.isConnected) back.focus();
    else if (under) under.querySelector<HTMLElement>("input, select, textarea, button")?.focus();
    else document.querySelector<HTMLElement>("main h1")?.focus();
  });
}

export function DialogButtons({ onClose, action, busy }: { onClose: () => void; action: string; busy: boolean }) {
  return (
    <div className="bg-base-100 sticky -bottom-6 -mb-2 flex justify-end gap-2 py-2">
      <button type="button" className="btn btn-ghost" onClick={onClose}>
        Cancel
      </button>
      <button type="submit" className="btn btn-primary" disabled={busy}>
        {action}
      </button>
    </div>
  );
}
