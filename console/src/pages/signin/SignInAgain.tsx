import { useEffect, type FormEvent } from "react";
import { useSignIn } from "../../api/queries";
import { Dialog } from "../../parts/Dialog";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";

// How long what was on the page is kept for whoever comes back to it, in milliseconds.
const kept = 15 * 60_000;

// SignInAgain stands over the page of somebody whose session has ended. What they typed is there when they have signed in again; nobody
// else comes to see it, and after a while it is gone.
export function SignInAgain({ person }: { person: string }) {
  const signIn = useSignIn();
  useEffect(() => {
    const timer = setTimeout(() => window.location.reload(), kept);
    return () => clearTimeout(timer);
  }, []);
  const leave = () => window.location.reload();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    signIn.mutate({ person, password: String(new FormData(event.currentTarget).get("password")) });
  };
  return (
    <Dialog title="Your session has ended" covers settled onClose={leave}>
      <form className="grid gap-4" onSubmit={submit}>
        <p>Sign in to continue where you left off. What you typed is still there.</p>
        <p>
          Name: <b className="name">{person}</b>
        </p>
        <Field label="Password" name="password" type="password" autoComplete="current-password" required />
        {signIn.error && <ProblemBox error={signIn.error} />}
        <div className="flex justify-end gap-2">
          <button type="button" className="btn btn-ghost" onClick={leave}>
            Sign in as somebody else
          </button>
          <button type="submit" className="btn btn-primary" disabled={signIn.isPending}>
            Sign in
          </button>
        </div>
      </form>
    </Dialog>
  );
}
