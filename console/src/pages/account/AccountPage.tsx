import { useState, type FormEvent } from "react";
import type { Schemas } from "../../api/client";
import { useChangePassword, useEndSession, useSessions } from "../../api/account";
import { useLimits } from "../../api/queries";
import { Confirm } from "../../parts/Confirm";
import { Field } from "../../parts/Field";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { ways, type Way } from "../../parts/ways";
import { When } from "../../parts/When";

// AccountPage is what is one's own: the password, and where one is signed in.
export function AccountPage({ me }: { me: Schemas["Me"] }) {
  return (
    <>
      <PageHead title="Your account">
        <span className="name">{me.subject}</span>
        {me.description && `: ${me.description}`}
      </PageHead>
      <div className="grid grid-cols-1 gap-10">
        <Password />
        <Sessions />
      </div>
    </>
  );
}

function Password() {
  const change = useChangePassword();
  const limits = useLimits();
  const [differ, setDiffer] = useState(false);
  const submit = (event: FormEvent<HTMLFormElement>) => {
    event.preventDefault();
    const form = event.currentTarget;
    const given = new FormData(form);
    const [password = "", fresh = "", again = ""] = ["password", "new_password", "again"].map((name) => String(given.get(name) ?? ""));
    setDiffer(fresh !== again);
    if (fresh === again) change.mutate({ password, new_password: fresh }, { onSuccess: () => form.reset() });
  };
  return (
    <section aria-labelledby="password" className="grid max-w-xl gap-3">
      <h2 id="password" className="text-xl font-semibold">
        Password
      </h2>
      <p className="muted">Changing it ends all your other sessions, on other devices and on the command line.</p>
      <form className="grid gap-4" onSubmit={submit}>
        <Field label="Current password" name="password" type="password" autoComplete="current-password" required />
        <div className="grid gap-4 sm:grid-cols-2">
          <Field
            label="New password"
            name="new_password"
            type="password"
            autoComplete="new-password"
            required
            hint={limits.data && `At least ${limits.data.password} characters.`}
          />
          <Field label="Once more" name="again" type="password" autoComplete="new-password" required />
        </div>
        {differ && (
          <p role="alert" className="text-error font-semibold">
            The two new passwords do not match.
          </p>
        )}
        {change.error && <ProblemBox error={change.error} />}
        {change.isSuccess && (
          <p role="status">
            <Mark state="usable" word="Your password is changed" />, and your other sessions have ended.
          </p>
        )}
        <button type="submit" className="btn btn-primary justify-self-start" disabled={change.isPending}>
          Change password
        </button>
      </form>
    </section>
  );
}

function Sessions() {
  const sessions = useSessions();
  const end = useEndSession();
  const [ending, setEnding] = useState<Schemas["OwnSession"]>();
  const list = sessions.data?.sessions ?? [];
  return (
    <section aria-labelledby="sessions" className="grid gap-3">
      <h2 id="sessions" className="text-xl font-semibold">
        Where you are signed in
      </h2>
      {sessions.isPending && <Loading what="your sessions" />}
      {sessions.error && <ProblemBox error={sessions.error} />}
      {list.length > 0 && (
        <Table
          label="Table of your sessions"
          rows={list}
          id={(s) => s.id}
          columns={[
            { head: "By", cell: (s) => ways[s.via as Way] ?? s.via },
            { head: "Begun", cell: (s) => <When at={s.begun} /> },
            { head: "Ends", cell: (s) => <When at={s.ends} /> },
            {
              head: "End it",
              hidden: true,
              cell: (s) =>
                s.current ? (
                  <Mark state="usable" word="this one" />
                ) : (
                  <button type="button" className="btn btn-outline btn-xs" onClick={() => setEnding(s)}>
                    End …
                  </button>
                ),
            },
          ]}
        />
      )}
      {ending && (
        <Confirm
          title="End this session?"
          action="End it"
          busy={end.isPending}
          error={end.error}
          onClose={() => setEnding(undefined)}
          onYes={() => end.mutate(ending.id, { onSuccess: () => setEnding(undefined) })}
        >
          <p>
            Your session by {ways[ending.via as Way] ?? ending.via} that began <When at={ending.begun} /> is signed out at once, and what
            runs with it is refused from then on.
          </p>
        </Confirm>
      )}
    </section>
  );
}
