import { Dialog } from "../../parts/Dialog";

// OtherSession covers the page of somebody who is not the one signed in any more: all pages of a browser share one session, and another
// person has signed in on one of them.
export function OtherSession({ subject }: { subject: string }) {
  const again = () => window.location.reload();
  return (
    <Dialog title="Somebody else is signed in" covers settled onClose={again}>
      <div className="grid gap-4">
        <p>
          This page was opened as <span className="name">{subject}</span>. Somebody else has since signed in on another page of this
          browser. Nothing was done in their name.
        </p>
        <div className="flex justify-end">
          <button type="button" className="btn btn-primary" onClick={again}>
            Continue as whoever is signed in
          </button>
        </div>
      </div>
    </Dialog>
  );
}
