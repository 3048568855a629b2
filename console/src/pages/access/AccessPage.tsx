import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useIdentities } from "../../api/queries";
import { useGrants } from "../../api/rights";
import { GrantTable } from "../../parts/GrantTable";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";
import { RegisterDialog } from "./RegisterDialog";
import { Tabs } from "./Tabs";

const kinds = ["app", "person", "team"] as const;
type Kind = (typeof kinds)[number];
const titles: Record<Kind, string> = { app: "Apps", person: "People", team: "Teams" };

// AccessPage lists people and apps; who may not see others sees their own grants, and what they answer for.
export function AccessPage({ me }: { me: Schemas["Me"] }) {
  const may = useMay();
  const identities = useIdentities(may.seesIdentities);
  const grants = useGrants(undefined, may.seesIdentities);
  const [registering, setRegistering] = useState<Kind>();
  const [query, setQuery] = useSearchParams();
  const kind = kinds.find((k) => k === query.get("kind")) ?? "app";
  const setKind = (k: Kind) => setQuery(k === "app" ? {} : { kind: k }, { replace: true });
  const list = identities.data?.identities ?? [];
  const of = (k: Kind) => list.filter((i) => i.subject.startsWith(`${k}:`));
  return (
    <>
      <Tabs />
      <PageHead
        title="People, apps and teams"
        aside={
          may.chest("register") && (
            <>
              <button type="button" className="btn btn-outline" onClick={() => setRegistering("team")}>
                Create a team
              </button>
              <button type="button" className="btn btn-outline" onClick={() => setRegistering("person")}>
                Register a person
              </button>
              <button type="button" className="btn btn-primary" onClick={() => setRegistering("app")}>
                Register an app
              </button>
            </>
          )
        }
      />
      {may.seesIdentities && identities.isPending && <Loading what="people and apps" />}
      {identities.error && <ProblemBox error={identities.error} />}
      {!may.seesIdentities && <Own me={me} />}
      {identities.data && (
        <>
          <div role="tablist" aria-label="Kind" className="mb-4 flex gap-2">
            {kinds.map((k) => (
              <button
                key={k}
                type="button"
                role="tab"
                aria-selected={k === kind}
                className={`btn btn-sm ${k === kind ? "btn-primary" : "btn-outline"}`}
                onClick={() => setKind(k)}
              >
                {titles[k]} <span className="font-normal tabular-nums">{of(k).length}</span>
              </button>
            ))}
          </div>
          <List key={kind} kind={kind} identities={of(kind)} grants={grants.data?.grants ?? []} />
        </>
      )}
      {registering && <RegisterDialog kind={registering} onDone={() => setKind(registering)} onClose={() => setRegistering(undefined)} />}
    </>
  );
}

function Own({ me }: { me: Schemas["Me"] }) {
  const { owned } = useMay();
  return (
    <div className="grid grid-cols-1 gap-8">
      <section>
        <h2 className="mb-2 text-xl font-semibold">Your own grants</h2>
        {me.grants.length === 0 ? <p className="muted">None.</p> : <GrantTable grants={me.grants} of={me.subject} />}
      </section>
      {owned.length > 0 && (
        <section>
          <h2 className="mb-2 text-xl font-semibold">What you answer for</h2>
          <ul className="grid gap-1">
            {owned.map((subject) => (
              <li key={subject}>
                <Link className="link link-hover name" to={`/access/${subject}`}>
                  {subject}
                </Link>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

const time = (at?: string) => (at ? new Date(at).getTime() : 0);

function List({ kind, identities, grants }: { kind: Kind; identities: Schemas["Identity"][]; grants: Schemas["Grant"][] }) {
  const bySubject = Map.groupBy(
    grants.filter((g) => g.in_force),
    (g) => g.subject,
  );
  const accessOf = (i: Schemas["Identity"]) => bySubject.get(i.subject) ?? [];
  return (
    <Table
      label={`Table of ${titles[kind].toLowerCase()}`}
      rows={identities}
      id={(i) => i.subject}
      find={(i) =>
        `${i.subject} ${i.state} ${i.owner} ${i.description} ${accessOf(i)
          .map((g) => `${g.role} ${g.scope}`)
          .join(" ")}`
      }
      columns={[
        {
          head: "Name",
          className: "sm:min-w-44",
          sort: (i) => i.subject,
          cell: (i) => (
            <Link className="link link-hover name font-medium" to={`/access/${i.subject}`}>
              {i.subject.replace(/^.*?:/, "")}
            </Link>
          ),
        },
        { head: "State", sort: (i) => i.state, cell: (i) => <State of={i} /> },
        { head: "Access in force", sort: (i) => -accessOf(i).length, cell: (i) => <Access grants={accessOf(i)} /> },
        { head: "Owner", className: "name text-sm", sort: (i) => i.owner, cell: (i) => i.owner },
        kind !== "team" && { head: "Last seen", sort: (i) => -time(i.seen.at), cell: (i) => <When at={i.seen.at} /> },
        { head: "Description", cell: (i) => i.description },
      ]}
    />
  );
}

function State({ of: i }: { of: Schemas["Identity"] }) {
  const word = !i.enrolled ? "not enrolled" : i.confirmed ? i.state.replace("_", " ") : "not confirmed";
  return <Mark state={i.enrolled && i.confirmed ? i.state : "waiting"} word={word} />;
}

const most = 4;

function Access({ grants }: { grants: Schemas["Grant"][] }) {
  if (grants.length === 0) return <span className="muted">none</span>;
  return (
    <ul>
      {grants.slice(0, most).map((g) => (
        <li key={g.id} className="text-sm">
          {g.effect === "deny" && "denied "}
          <b>{g.role}</b> <span className="name">{g.scope}</span>
        </li>
      ))}
      {grants.length > most && <li className="muted text-sm">and {grants.length - most} more</li>}
    </ul>
  );
}
