import { useState, type FormEvent } from "react";
import { useEnrol, useSignIn } from "../../api/queries";
import { Field } from "../../parts/Field";
import { ProblemBox } from "../../parts/ProblemBox";
import { Gate } from "./Gate";

type SignInPageProps = { ended: boolean; reachable: boolean };

// SignInPage lets a person in, by password or, the first time, by enrolment code.
export function SignInPage({ ended, reachable }: SignInPageProps) {
  const [enrolling, setEnrolling] = useState(false);
  return (
    <Gate title={enrolling ? "Enrol" : "Sign in"}>
      {!reachable && (
        <p role="alert" className="text-error font-semibold">
          The chest does not answer.
        </p>
      )}
      {ended && (
        <p role="status" className="bg-base-300 rounded-field px-3 py-2">
          Your session has ended. Sign in to continue where you left off.
        </p>
      )}
      {enrolling ? <EnrolForm /> : <SignInForm />}
      <button type="button" className="link link-hover muted justify-self-start text-sm" onClick={() => setEnrolling(!enrolling)}>
        {enrolling ? "I have a password" : "I have an enrolment code"}
      </button>
    </Gate>
  );
}

function SignInForm() {
  const signIn = useSignIn();
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    signIn.mutate({ person: String(form.get("person")), password: String(form.get("password")) });
  };
  return (
    <form className="grid gap-4" onSubmit={submit}>
      <Field label="Name" name="person" autoComplete="username" autoCapitalize="none" spellCheck={false} className="name" required />
      <Field label="Password" name="password" type="password" autoComplete="current-password" required />
      {signIn.error && <ProblemBox error={signIn.error} />}
      <button type="submit" className="btn btn-primary" disabled={signIn.isPending}>
        Sign in
      </button>
    </form>
  );
}

function EnrolForm() {
  const enrol = useEnrol();
  const [differ, setDiffer] = useState(false);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = new FormData(event.currentTarget);
    const same = form.get("password") === form.get("again");
    setDiffer(!same);
    if (same) enrol.mutate({ code: String(form.get("code")), password: String(form.get("password")) });
  };
  return (
    <form className="grid gap-4" onSubmit={submit}>
      <Field
        label="Enrolment code"
        name="code"
        type="password"
        autoComplete="one-time-code"
        required
        hint="From whoever registered you. It works once."
      />
      <Field
        label="New password"
        name="password"
        type="password"
        autoComplete="new-password"
        minLength={12}
        required
        hint="12 characters or more."
      />
      <Field label="New password again" name="again" type="password" autoComplete="new-password" required />
      {differ && (
        <p role="alert" className="text-error font-semibold">
          The two passwords do not match.
        </p>
      )}
      {enrol.error && <ProblemBox error={enrol.error} />}
      <button type="submit" className="btn btn-primary" disabled={enrol.isPending}>
        Enrol and sign in
      </button>
    </form>
  );
}
