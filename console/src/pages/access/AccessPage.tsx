import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useGrants, useIdentities } from "../../api/queries";
import { GrantTable } from "../../parts/GrantTable";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { Scroll } from "../../parts/Scroll";
import { When } from "../../parts/When";
import { RegisterDialog } from "./RegisterDialog";
import { Tabs } from "./Tabs";

// AccessPage lists people and apps; who may not see others sees their own grants.
export function AccessPage({ me }: { me: Schemas["Me"] }) {
  const identities = useIdentities();
  const grants = useGrants();
  const [registering, setRegistering] = useState<"person" | "app" | "team" | null>(null);
  const list = identities.data?.identities ?? [];
  const of = (kind: string) => list.filter((i) => i.subject.startsWith(`${kind}:`));
  const given = grants.data?.grants ?? [];
  return (
    <>
      <Tabs />
      <PageHead
        title="People and apps"
        aside={identities.data && <>
          <button type="button" className="btn btn-outline" onClick={() => setRegistering("team")}>Make a team</button>
          <button type="button" className="btn btn-outline" onClick={() => setRegistering("person")}>Register a person</button>
          <button type="button" className="btn btn-primary" onClick={() => setRegistering("app")}>Register an app</button>
        </>}
      />
      {identities.isPending && <Loading what="people and apps" />}
      {identities.error && (
        <div className="grid grid-cols-1 gap-8">
          <ProblemBox error={identities.error} />
          <section><h2 className="mb-2 text-xl font-semibold">Your own grants</h2><GrantTable grants={me.grants} /></section>
        </div>
      )}
      {identities.data && (
        <div className="grid grid-cols-1 gap-10">
          <Section title="Apps" identities={of("app")} grants={given} />
          <Section title="People" identities={of("person")} grants={given} />
          <Section title="Teams" identities={of("team")} grants={given} />
        </div>
      )}
      {registering && <RegisterDialog kind={registering} onClose={() => setRegistering(null)} />}
    </>
  );
}

type SectionProps = { title: string; identities: Schemas["Identity"][]; grants: Schemas["Grant"][] };

function Section({ title, identities, grants }: SectionProps) {
  return (
    <section aria-label={title}>
      <h2 className="mb-2 text-xl font-semibold">{title} <span className="muted font-sans text-base font-normal">{identities.length}</span></h2>
      <Scroll label={`Table of ${title}`}>
        <table className="dense table">
          <thead><tr><th scope="col">Name</th><th scope="col">State</th><th scope="col">Access in force</th><th scope="col">Owner</th><th scope="col">Last seen</th><th scope="col">Description</th></tr></thead>
          <tbody>
            {identities.map((i) => (
              <tr key={i.subject}>
                <td className="min-w-44"><Link className="link link-hover name font-medium" to={`/access/${i.subject}`}>{i.subject.replace(/^.*?:/, "")}</Link></td>
                <td>
                  <Mark
                    state={i.enrolled && i.confirmed ? i.state : "waiting"}
                    word={!i.enrolled ? "not enrolled" : i.confirmed ? i.state.replace("_", " ") : "not confirmed"}
                  />
                </td>
                <td><Access grants={grants.filter((g) => g.subject === i.subject && g.in_force)} /></td>
                <td className="name text-sm">{i.owner}</td>
                <td>{i.subject.startsWith("team:") ? <span className="muted">a team</span> : <When at={i.seen.at} />}</td>
                <td>{i.description}</td>
              </tr>
            ))}
          </tbody>
        </table>
      </Scroll>
    </section>
  );
}

function Access({ grants }: { grants: Schemas["Grant"][] }) {
  if (grants.length === 0) return <span className="muted">none</span>;
  return (
    <ul>
      {grants.map((g) => (
        <li key={g.id} className="text-sm">
          {g.effect === "deny" && "denied "}<b>{g.role}</b> <span className="name">{g.scope}</span>
        </li>
      ))}
    </ul>
  );
}
