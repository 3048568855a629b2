import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useHolders } from "../../api/rights";
import { Conditions } from "../../parts/Conditions";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";

// Holders lists, when asked, who can read an item.
export function Holders({ target }: { target: string }) {
  const [asked, setAsked] = useState(false);
  const holders = useHolders("read_value", target, asked);
  const list = holders.data?.holders ?? [];
  return (
    <section aria-label="Who can read it">
      <h2 className="mb-2 text-xl font-semibold">Who can read it</h2>
      {!asked && (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsked(true)}>
          Show who can read it
        </button>
      )}
      {holders.error && <ProblemBox error={holders.error} />}
      {holders.data && list.length === 0 && (
        <p>
          <Mark state="overdue" word="Nobody may read it" />
        </p>
      )}
      {list.length > 0 && (
        <Scroll label="Table of readers">
          <table className="dense table">
            <thead>
              <tr>
                <th scope="col">Who</th>
                <th scope="col">State</th>
                <th scope="col">By</th>
                <th scope="col">Conditions</th>
              </tr>
            </thead>
            <tbody>{list.flatMap((h) => h.grants.map((g) => <Row key={g.id} holder={h} grant={g} />))}</tbody>
          </table>
        </Scroll>
      )}
    </section>
  );
}

function Row({ holder, grant }: { holder: Schemas["Holder"]; grant: Schemas["Grant"] }) {
  return (
    <tr>
      <td>
        <Link className="link link-hover name" to={`/access/${holder.subject}`}>
          {holder.subject}
        </Link>
      </td>
      <td>
        <Mark state={holder.state} />
        {holder.unless.length > 0 && <p className="text-sm">denied under some conditions</p>}
      </td>
      <td>
        <b>{grant.role}</b> on <span className="name">{grant.scope}</span>
      </td>
      <td>
        <Conditions of={grant} />
      </td>
    </tr>
  );
}
