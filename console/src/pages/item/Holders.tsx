import { useState } from "react";
import { Link } from "react-router";
import { useHolders } from "../../api/rights";
import { Conditions } from "../../parts/Conditions";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import type { WhatIsAsked } from "./keyWords";

// Holders lists, when asked, who can read an item, or use it if it is a key.
export function Holders({ target, action, word }: WhatIsAsked) {
  const [asked, setAsked] = useState(false);
  const holders = useHolders(action, target, asked);
  const list = holders.data?.holders ?? [];
  return (
    <section aria-label={`Who can ${word} it`}>
      <h2 className="mb-2 text-xl font-semibold">Who can {word} it</h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Show who can {word} it
        </button>
      )}
      {holders.error && <ProblemBox error={holders.error} />}
      {holders.data && list.length === 0 && (
        <p>
          <Mark state="overdue" word={`Nobody may ${word} it`} />
        </p>
      )}
      {list.length > 0 && (
        <Table
          label={`Table of who can ${word} it`}
          rows={list.flatMap((holder) => holder.grants.map((grant) => ({ holder, grant })))}
          id={({ holder, grant }) => `${holder.subject} ${grant.id}`}
          find={({ holder, grant }) => `${holder.subject} ${holder.state} ${grant.role} ${grant.scope}`}
          columns={[
            {
              head: "Who",
              sort: ({ holder }) => holder.subject,
              cell: ({ holder }) => (
                <Link className="link link-hover name" to={`/access/${holder.subject}`}>
                  {holder.subject}
                </Link>
              ),
            },
            {
              head: "State",
              sort: ({ holder }) => holder.state,
              cell: ({ holder }) => (
                <>
                  <Mark state={holder.state} />
                  {holder.unless.length > 0 && <p className="text-sm">denied under some conditions</p>}
                </>
              ),
            },
            {
              head: "By",
              sort: ({ grant }) => grant.role,
              cell: ({ grant }) => (
                <>
                  <b>{grant.role}</b> on <span className="name">{grant.scope}</span>
                </>
              ),
            },
            { head: "Conditions", cell: ({ grant }) => <Conditions of={grant} /> },
          ]}
        />
      )}
    </section>
  );
}
