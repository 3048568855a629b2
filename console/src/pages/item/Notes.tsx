import type { Schemas } from "../../api/client";
import { Dialog } from "../../parts/Dialog";

// Notes are what is unusual about a version that was stored.
export function Notes({ stored, onClose }: { stored: Schemas["Stored"]; onClose: () => void }) {
  return (
    <Dialog title={`${stored.item.name}@${stored.version.version} is stored`} settled onClose={onClose}>
      <div className="grid gap-4" role="status">
        <p>It was not shown. Please note:</p>
        <ul className="list-disc pl-6">
          {(stored.version.notes ?? []).map((note) => (
            <li key={note}>{note}</li>
          ))}
        </ul>
        <div className="flex justify-end">
          <button type="button" className="btn btn-primary" onClick={onClose}>
            Continue
          </button>
        </div>
      </div>
    </Dialog>
  );
}
