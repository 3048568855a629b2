import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { Table } from "../../parts/Table";
import { namesOf } from "./words";

type ProfilesProps = { title: string; list: Schemas["ProfileOf"][]; none: string; onNew?: () => void };

// Profiles lists those by which an authority or a key signs.
export function Profiles({ title, list, none, onNew }: ProfilesProps) {
  return (
    <section aria-labelledby="profiles">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-2">
        <h2 id="profiles" className="text-xl font-semibold">
          {title}
        </h2>
        {onNew && (
          <button type="button" className="btn btn-outline btn-sm" onClick={onNew}>
            New profile …
          </button>
        )}
      </div>
      {list.length === 0 ? (
        <p className="muted">{none}</p>
      ) : (
        <Table
          label="Table of profiles"
          rows={list}
          id={(p) => p.reference}
          columns={[
            {
              head: "Profile",
              className: "sm:min-w-44",
              cell: (p) => (
                <Link className="link link-hover name font-medium" to={`/drawers/${p.reference}`}>
                  {p.reference.split("/")[1]}
                </Link>
              ),
            },
            { head: "For", cell: (p) => <span className="name text-sm">{namesOf(p.profile).join(", ")}</span> },
            { head: "For use as", cell: (p) => purposeOf(p.profile) },
            { head: "Longest life", cell: (p) => p.profile.longest },
            { head: "Description", cell: (p) => p.description },
          ]}
        />
      )}
    </section>
  );
}

function purposeOf(p: Schemas["CertificateProfile"]): string {
  if (p.jwt) return "token";
  return p.ssh ? `SSH ${p.ssh}` : (p.usages?.join(", ") ?? "");
}
