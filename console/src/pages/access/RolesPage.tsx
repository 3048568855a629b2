import { useEffect, useState } from "react";
import { useLocation } from "react-router";
import type { Schemas } from "../../api/client";
import { useMay } from "../../api/may";
import { useRemoveRole, useRoles } from "../../api/rights";
import { briefly } from "../../parts/actions";
import { Confirm } from "../../parts/Confirm";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Loading } from "../../parts/States";
import { RoleDialog } from "./RoleDialog";
import { Tabs } from "./Tabs";

type Role = Schemas["Role"];

// RolesPage lists what each role allows, and makes, changes and removes those of one's own.
export function RolesPage() {
  const roles = useRoles();
  const remove = useRemoveRole();
  const may = useMay();
  const [open, setOpen] = useState<{ what: "make" | "change" | "remove"; role?: Role }>();
  const close = () => setOpen(undefined);
  const changes = may.everything("grant");
  const { hash } = useLocation();
  useEffect(() => {
    if (roles.data && hash) document.getElementById(`role-${hash.slice(1)}`)?.scrollIntoView({ block: "center" });
  }, [roles.data, hash]);
  const list = roles.data?.roles ?? [];
  return (
    <>
      <Tabs />
      <PageHead
        title="Roles"
        aside={
          changes && (
            <button type="button" className="btn btn-primary" onClick={() => setOpen({ what: "make" })}>
              Create a role …
            </button>
          )
        }
      >
        A role is a set of actions. A grant gives it to somebody, on something, until an end.
      </PageHead>
      {roles.isPending && <Loading what="the roles" />}
      {roles.error && <ProblemBox error={roles.error} />}
      <ul className="grid gap-3">
        {list.map((r) => (
          <li
            key={r.name}
            id={`role-${r.name}`}
            className={`panel flex flex-wrap items-start justify-between gap-3 ${hash === `#${r.name}` ? "border-primary" : ""}`}
          >
            <div className="grid gap-1">
              <h2 className="text-lg font-semibold">
                <span className="name">{r.name}</span>{" "}
                <span className="muted font-sans text-sm font-normal">
                  {r.built_in ? "built in" : "your own"},{" "}
                  {r.in_use === 0 ? "no grant has it" : r.in_use === 1 ? "1 grant has it" : `${r.in_use} grants have it`}
                </span>
              </h2>
              <p>{r.summary}</p>
              <ul className="flex flex-wrap gap-1" aria-label={`Actions of ${r.name}`}>
                {briefly(r.actions).map((a) => (
                  <li key={a} className="badge badge-outline badge-sm">
                    {a}
                  </li>
                ))}
              </ul>
            </div>
            {changes && !r.built_in && (
              <span className="flex gap-2">
                <button type="button" className="btn btn-outline btn-sm" onClick={() => setOpen({ what: "change", role: r })}>
                  Change …<span className="sr-only"> {r.name}</span>
                </button>
                <button
                  type="button"
                  className="btn btn-outline btn-sm"
                  disabled={r.in_use > 0}
                  title={r.in_use > 0 ? "End its grants first" : undefined}
                  onClick={() => setOpen({ what: "remove", role: r })}
                >
                  Remove …<span className="sr-only"> {r.name}</span>
                </button>
              </span>
            )}
          </li>
        ))}
      </ul>
      {(open?.what === "make" || open?.what === "change") && <RoleDialog role={open.role} onClose={close} />}
      {open?.what === "remove" && open.role && (
        <Confirm
          title={`Remove the role ${open.role.name}?`}
          action="Remove it"
          busy={remove.isPending}
          error={remove.error}
          onClose={close}
          onYes={() => open.role && remove.mutate(open.role.name, { onSuccess: close })}
        >
          <p>No grant has it. It can be made again under the same name.</p>
        </Confirm>
      )}
    </>
  );
}
