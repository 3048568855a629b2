import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useEndGrant, useGrants, useIdentity, useSetState } from "../../api/queries";
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
        title={<><span className="name">{subject}</span>{identity.data && <span className="font-sans text-base"><Mark state={identity.data.state} /></span>}</>}
        aside={identity.data && <>{!team && <StateButton identity={identity.data} />}<button type="button" className="btn btn-primary" onClick={() => setGiving(true)}>Give a grant</button></>}
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
