import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../api/client";
import { useMay } from "../api/may";
import { useEndGrant } from "../api/rights";
import { ChooseBox, type useChosen } from "./Chosen";
import { Conditions } from "./Conditions";
import { Confirm } from "./Confirm";
import { Mark } from "./Mark";
import { Table } from "./Table";
import { When } from "./When";

type Grant = Schemas["Grant"];
type GrantTableProps = { grants: Grant[]; of?: string; ends?: boolean; chosen?: ReturnType<typeof useChosen> };

const time = (at?: string) => (at ? new Date(at).getTime() : Infinity);

// GrantTable lists grants, those in force first. Of a subject, a team's that reach it are named, and ended at the team. With ends, those
// that the viewer may end can be ended, and with chosen, chosen.
export function GrantTable({ grants, of: owner, ends, chosen }: GrantTableProps) {
  const [ending, setEnding] = useState<Grant>();
  const end = useEndGrant();
  const me = useMay().subject; // nobody ends their own here
  const showSubject = owner === undefined || grants.some((g) => g.subject !== owner);
  const sorted = [...grants].sort((a, b) => Number(b.in_force) - Number(a.in_force));
  return (
    <>
      <Table
        label="Table of grants"
        rows={sorted}
        id={(g) => g.id}
        onFound={chosen?.onFound}
        rowClass={(g) => (g.in_force ? "" : "muted")}
        find={(g) =>
          [
            g.id,
            g.subject,
            g.effect === "deny" ? "denied" : "",
            g.role,
            g.scope,
            g.reason,
            g.created_by,
            g.in_force ? "in force" : "ended",
          ].join(" ")
        }
        columns={[
          chosen !== undefined &&
            chosen.list.length > 0 && {
              head: "Choose",
              hidden: true,
              cell: (g: Grant) => <ChooseBox id={g.id} from={chosen} />,
            },
          showSubject && {
            head: "Given to",
            sort: (g: Grant) => g.subject,
            cell: (g: Grant) => (
              <Link className="link link-hover name" to={`/access/${g.subject}`}>
                {g.subject}
              </Link>
            ),
          },
          {
            head: "Role",
            className: "font-semibold",
            sort: (g) => g.role,
            cell: (g) => (g.effect === "deny" ? <Mark state="refused" word={`denied ${g.role}`} /> : g.role),
          },
          { head: "Scope", className: "name sm:min-w-40", sort: (g) => g.scope, cell: (g) => g.scope },
          { head: "Conditions", cell: (g) => <Conditions of={g} /> },
          { head: "End", sort: (g) => time(g.ended_at ?? g.not_after), cell: (g) => <GrantEnd grant={g} /> },
          {
            head: "Given",
            sort: (g) => -time(g.created_at),
            cell: (g) => (
              <>
                <When at={g.created_at} />
                <span className="name muted block text-sm">{g.created_by}</span>
              </>
            ),
          },
          { head: "Reason", cell: (g) => g.reason },
          ends === true && {
            head: "Do",
            hidden: true,
            cell: (g: Grant) =>
              g.may_end &&
              g.subject !== me &&
              g.subject === (owner ?? g.subject) && (
                <button type="button" className="btn btn-outline btn-xs" onClick={() => setEnding(g)}>
                  End …
                  <span className="sr-only">
                    {" "}
                    grant of {g.role} on {g.scope}
                  </span>
                </button>
              ),
          },
        ]}
      />
      {ending && (
        <Confirm
          title="End this grant?"
          action="End it"
          busy={end.isPending}
          error={end.error}
          onClose={() => setEnding(undefined)}
          onYes={() => end.mutate(ending.id, { onSuccess: () => setEnding(undefined) })}
        >
          <p>
            <span className="name">{ending.subject}</span> {ending.effect === "deny" ? "is no longer denied what" : "is no longer"}{" "}
            <b>{ending.role}</b>
            {ending.effect === "deny" && " allows"} on <span className="name">{ending.scope}</span>, at once.
            {ending.effect === "deny" ? " Other grants may give access again." : " What only this grant allows is refused from now on."}
          </p>
        </Confirm>
      )}
    </>
  );
}

function GrantEnd({ grant }: { grant: Grant }) {
  if (grant.ended_at) return <Mark state="ended" word={`ended by ${grant.ended_by}`} />;
  if (!grant.not_after) return <Mark state="endless" word="never" />;
  return <When at={grant.not_after} />;
}
