import { useState } from "react";
import { Link, useParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useIdentity } from "../../api/queries";
import { useGrants } from "../../api/rights";
import { GrantTable } from "../../parts/GrantTable";
import { Mark } from "../../parts/Mark";
import { Closed } from "../../parts/Only";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { AskDialog } from "../refusals/AskDialog";
import { Credentials } from "./Credentials";
import { DescribeIdentityDialog } from "./DescribeIdentityDialog";
import { GiveDialog } from "./GiveDialog";
import { ConfirmButton, StateButton } from "./IdentityActs";
import { Members } from "./Members";
import { Owned } from "./Owned";
import { Reach } from "./Reach";
import { Readings } from "./Readings";

type Identity = Schemas["Identity"];

// IdentityPage shows one person, app or team: what it may do, and how it signs in.
export function IdentityPage() {
  const { subject = "" } = useParams();
  const may = useMay();
  const sees = may.sees(subject);
  const identity = useIdentity(subject, sees);
  const grants = useGrants(subject, sees);
  const [open, setOpen] = useState<"give" | "request" | "describe">();
  const list = grants.data?.grants ?? [];
  const team = subject.startsWith("team:");
  const self = subject === may.subject;
  const giver = may.somewhere("grant") && !self;
  const d = identity.data;
  const gives = giver && !d?.may_not_give;
  const requests = giver ? d?.may_not_give !== undefined : self || may.ownedApps.includes(subject);
  return (
    <>
      <PageHead
        above={{ to: "/access", text: "people, apps and teams" }}
        title={
          <>
            <span className="name">{subject}</span>
            {d && (
              <span className="font-sans text-base">
                <Mark state={d.state} />
              </span>
            )}
            {d?.confirmed === false && (
              <span className="font-sans text-base">
                <Mark state="waiting" word="not confirmed" />
              </span>
            )}
          </>
        }
        aside={
          d && (
            <>
              {!d.confirmed && may.chest("register") && <ConfirmButton identity={d} />}
              {may.chest("register") && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("describe")}>
                  Edit details …
                </button>
              )}
              {!team && may.chest("register") && <StateButton identity={d} self={self} />}
              {gives && (
                <button type="button" className="btn btn-primary" onClick={() => setOpen("give")}>
                  Give access …
                </button>
              )}
              {requests && (
                <button type="button" className="btn btn-outline" onClick={() => setOpen("request")}>
                  Request access …
                </button>
              )}
            </>
          )
        }
      >
        {d && <Facts of={d} />}
      </PageHead>
      {!sees && <Closed what="other people and apps" needs="auditor" />}
      {sees && identity.isPending && <Loading what={subject} />}
      {identity.error && <ProblemBox error={identity.error} />}
      {d && (
        <div className="grid grid-cols-1 gap-10">
          <section aria-label="Grants">
            <h2 className="mb-2 text-xl font-semibold">Grants</h2>
            {giver && d.may_not_give && <p className="muted mb-3 max-w-prose">You cannot give access here: {d.may_not_give}.</p>}
            {grants.error && <ProblemBox error={grants.error} />}
            {list.length > 0 && <GrantTable grants={list} of={subject} ends={giver} />}
            {grants.data && list.length === 0 && (
              <Empty title="No access">{team ? "Its members get nothing from it." : "No access yet."}</Empty>
            )}
          </section>
          <Owned identity={d} />
          {team ? (
            <Members team={d} />
          ) : (
            <>
              <Credentials identity={d} />
              <Readings subject={subject} />
              <Reach subject={subject} />
            </>
          )}
        </div>
      )}
      {open === "give" && <GiveDialog subject={subject} onClose={() => setOpen(undefined)} />}
      {open === "request" && <AskDialog subject={subject} wants="consumer" onClose={() => setOpen(undefined)} />}
      {open === "describe" && d && <DescribeIdentityDialog identity={d} onClose={() => setOpen(undefined)} />}
    </>
  );
}

function Facts({ of: d }: { of: Identity }) {
  const may = useMay();
  const facts = [
    d.description,
    d.purpose,
    d.owner && (
      <>
        owner <span className="name">{d.owner}</span>
      </>
    ),
    d.teams.length > 0 && (
      <>
        in <span className="name">{d.teams.join(", ")}</span>
      </>
    ),
    d.environment && `runs in ${d.environment}`,
    !d.subject.startsWith("team:") && (
      <>
        last seen <When at={d.seen.at} />
        {d.seen.addr && (
          <>
            {" "}
            from <span className="name">{d.seen.addr}</span>
          </>
        )}
      </>
    ),
    <>
      registered <When at={d.created_at} />
    </>,
    may.somewhere("read_trail") && (
      <Link className="link" to={`/trail?subject=${encodeURIComponent(d.subject)}`}>
        its activity in the trail
      </Link>
    ),
  ].filter(Boolean);
  return (
    <p>
      {facts.map((fact, i) => (
        <span key={i}>
          {i > 0 && " · "}
          {fact}
        </span>
      ))}
    </p>
  );
}
