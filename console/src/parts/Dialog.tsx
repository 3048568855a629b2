import { useEffect, useRef, type ReactNode } from "react";

type DialogProps = { title: string; wide?: boolean; onClose: () => void; children: ReactNode };

// Dialog uses the browser's own modal: it keeps the focus inside and gives it back.
export function Dialog({ title, wide, onClose, children }: DialogProps) {
  const ref = useRef<HTMLDialogElement>(null);
  useEffect(() => ref.current?.showModal(), []);
  return (
    <dialog ref={ref} className="modal" onClose={onClose} aria-label={title}>
      <div className={`modal-box bg-base-100 border-base-300 border ${wide ? "max-w-4xl" : "max-w-xl"}`}>
        <h2 className="mb-4 text-xl font-semibold">{title}</h2>
        {children}
      </div>
    </dialog>
  );
}

export function DialogButtons({ onClose, action, busy }: { onClose: () => void; action: string; busy: boolean }) {
  return (
    <div className="mt-2 flex justify-end gap-2">
      <button type="button" className="btn btn-ghost" onClick={onClose}>Cancel</button>
      <button type="submit" className="btn btn-primary" disabled={busy}>{action}</button>
    </div>
  );
}
