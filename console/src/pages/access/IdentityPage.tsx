import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useConfirm, useEndGrant, useGrants, useIdentity, useMe, useSetState } from "../../api/queries";
import { Dialog, DialogButtons } from "../../parts/Dialog";
import { GrantTable } from "../../parts/GrantTable";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { Credentials } from "./Credentials";
import { GiveDialog } from "./GiveDialog";
import { Members } from "./Members";
import { Owned } from "./Owned";
import { Reach } from "./Reach";
import { Readings } from "./Readings";

// IdentityPage shows one person or app: what it may do, and what it proves itself with.
export function IdentityPage() {
  const { subject = "" } = useParams();
  const identity = useIdentity(subject);
  const grants = useGrants(subject);
  const end = useEndGrant();
  const [giving, setGiving] = useState(false);
  const list = grants.data?.grants ?? [];
  const team = subject.startsWith("team:");
  return (
    <>
      <PageHead
        above={{ to: "/access", text: "people and apps" }}
        title={
          <>
            <span className="name">{subject}</span>
            {identity.data && <span className="font-sans text-base"><Mark state={identity.data.state} /></span>}
            {identity.data?.confirmed === false && (
              <span className="font-sans text-base"><Mark state="waiting" word="not confirmed" /></span>
            )}
          </>
        }
        aside={
          identity.data && (
            <>
              {!identity.data.confirmed && <ConfirmButton identity={identity.data} />}
              {!team && <StateButton identity={identity.data} />}
              <button type="button" className="btn btn-primary" onClick={() => setGiving(true)}>Give a grant</button>
            </>
          )
        }
      >
        {identity.data && (
          <p>
            {identity.data.description}{identity.data.purpose && <>: {identity.data.purpose}</>}{identity.data.owner && <> · owner <span className="name">{identity.data.owner}</span></>} {identity.data.teams.length > 0 && <> · in <span className="name">{identity.data.teams.join(", ")}</span></>} {identity.data.environment && <> · runs in {identity.data.environment}</>} {!team && <> · last seen <When at={identity.data.seen.at} />{identity.data.seen.addr && <> from <span className="name">{identity.data.seen.addr}</span></>}</>} · registered <When at={identity.data.created_at} /> ·{" "}
            <Link className="link" to={`/trail?subject=${encodeURIComponent(subject)}`}>what it did</Link>
          </p>
        )}
      </PageHead>
      {identity.isPending && <Loading what={subject} />}
      {identity.error && <ProblemBox error={identity.error} />}
      {end.error && <div className="mb-4"><ProblemBox error={end.error} /></div>}
      {identity.data && (
        <div className="grid grid-cols-1 gap-10">
          <section aria-label="Grants">
            <h2 className="mb-2 text-xl font-semibold">Grants</h2>
            {list.length > 0 ? <GrantTable grants={list} of={subject} onEnd={(id) => end.mutate(id)} /> : <Empty title="It may do nothing">Give it the least that it needs.</Empty>}
          </section>
          <Owned identity={identity.data} />
          {team ? <Members team={identity.data} /> : <><Credentials identity={identity.data} /><Readings subject={subject} /><Reach subject={subject} /></>}
        </div>
      )}
      {giving && <GiveDialog subject={subject} onClose={() => setGiving(false)} />}
    </>
  );
}

// ConfirmButton says that somebody whom a colleague registered is who they are said to be.
function ConfirmButton({ identity }: { identity: Schemas["Identity"] }) {
  const confirm = useConfirm(identity.subject);
  const me = useMe().data?.subject;
  const [asking, setAsking] = useState(false);
  if (me === identity.created_by) return <p className="muted max-w-64 text-sm">You registered them: a colleague confirms who they are.</p>;
  return (
    <>
      <button type="button" className="btn btn-outline" onClick={() => setAsking(true)}>Confirm …</button>
      {asking && (
        <Dialog title={`Is ${identity.subject} who they are said to be?`} onClose={() => setAsking(false)}>
          <p>
            <span className="name">{identity.created_by}</span> registered them, and saw the code with which they enrolled. Until
            somebody else has made sure that they exist, and that it was them who enrolled, what they are given and agree to counts
            as given to, and agreed to by, whoever registered them.
          </p>
          {confirm.error && <ProblemBox error={confirm.error} />}
          <form onSubmit={(event) => { event.preventDefault(); confirm.mutate(undefined, { onSuccess: () => setAsking(false) }); }}>
            <DialogButtons onClose={() => setAsking(false)} action="I made sure: confirm" busy={confirm.isPending} />
          </form>
        </Dialog>
      )}
    </>
  );
}

function StateButton({ identity }: { identity: Schemas["Identity"] }) {
  const set = useSetState(identity.subject);
  const active = identity.state === "active";
  return (
    <>
      {set.error && <ProblemBox error={set.error} />}
      <button type="button" className="btn btn-outline" disabled={set.isPending} onClick={() => set.mutate(active ? "suspended" : "active")}>
        {active ? "Suspend" : "Resume"}
      </button>
    </>
  );
}
