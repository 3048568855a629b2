import { Link, useSearchParams } from "react-router";
import { useSearch } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Scroll } from "../../parts/Scroll";
import { Empty, Loading } from "../../parts/States";
import { When } from "../../parts/When";
import { SearchBox } from "./SearchBox";

// SearchPage lists the items that a query selects, among those that one may list.
export function SearchPage() {
  const [parameters] = useSearchParams();
  const query = parameters.get("q") ?? "";
  const found = useSearch(query);
  const items = found.data?.pages.flatMap((p) => p.items) ?? [];
  return (
    <>
      <PageHead above={{ to: "/", text: "the chest" }} title="Search" aside={<SearchBox query={query} />}>
        Words, and terms such as <span className="name text-sm">owner:person:*</span>, <span className="name text-sm">label:team=ticketing</span>, <span className="name text-sm">-state:usable</span> or <span className="name text-sm">read:never</span>.
      </PageHead>
      {found.isPending && <Loading what="what matches" />}
      {found.error && <ProblemBox error={found.error} />}
      {found.data && items.length === 0 && <Empty title="Nothing that you may list matches">Try fewer words.</Empty>}
      {items.length > 0 && (
        <Scroll label="Table of items found">
          <table className="dense table">
            <thead><tr><th scope="col">Item</th><th scope="col">State</th><th scope="col">Ends</th><th scope="col">Owner</th><th scope="col">Changed</th><th scope="col">Description</th></tr></thead>
            <tbody>
              {items.map((it) => (
                <tr key={it.reference}>
                  <td className="min-w-52"><Link className="link link-hover name font-medium" to={`/drawers/${it.reference}`}>{it.reference}</Link></td>
                  <td><Mark state={it.state} /></td>
                  <td><When at={it.ends_at} none="no end" /></td>
                  <td className="name text-sm">{it.owner}</td>
                  <td><When at={it.changed_at} /></td>
                  <td>{it.description}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Scroll>
      )}
      {found.hasNextPage && <button type="button" className="btn btn-outline mt-4" disabled={found.isFetchingNextPage} onClick={() => void found.fetchNextPage()}>Show more</button>}
    </>
  );
}
