import type { ReactNode } from "react";
import { Copy } from "../../parts/Copy";
import { Dialog } from "../../parts/Dialog";
import { save } from "../../parts/download";

type IssuedDialogProps = { title: string; text: string; what: string; file?: string; children: ReactNode; onClose: () => void };

// IssuedDialog hands over what was issued and is not kept in the chest: copied, or, where it is public, saved as a file.
export function IssuedDialog({ title, text, what, file, children, onClose }: IssuedDialogProps) {
  return (
    <Dialog title={title} settled onClose={onClose}>
      <div className="grid gap-4" role="status">
        {children}
        <div className="flex justify-end gap-2">
          <Copy text={text} what={what} />
          {file && (
            <button type="button" className="btn btn-outline" onClick={() => save(file, text, "text/plain")}>
              Save it
            </button>
          )}
          <button type="button" className="btn btn-primary" onClick={onClose}>
            Close
          </button>
        </div>
      </div>
    </Dialog>
  );
}
