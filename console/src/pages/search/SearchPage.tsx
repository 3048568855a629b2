import { Link, useSearchParams } from "react-router";
import { useSearch } from "../../api/queries";
import { Mark } from "../../parts/Mark";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { Table } from "../../parts/Table";
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
      <PageHead above={{ to: "/", text: "the chest" }} title="Search items" aside={<SearchBox query={query} />}>
        Words, and terms such as <span className="name text-sm">owner:person:*</span>,{" "}
        <span className="name text-sm">label:team=ticketing</span>, <span className="name text-sm">-state:usable</span> or{" "}
        <span className="name text-sm">read:never</span>.
      </PageHead>
      {found.isPending && <Loading what="what matches" />}
      {found.error && <ProblemBox error={found.error} />}
      {found.data && items.length === 0 && <Empty title="Nothing that you may list matches">Try fewer words.</Empty>}
      {items.length > 0 && (
        <Table
          label="Table of items found"
          rows={items}
          id={(it) => it.reference}
          find={(it) => `${it.reference} ${it.owner} ${it.description} ${it.state}`}
          columns={[
            {
              head: "Item",
              className: "sm:min-w-52",
              sort: (it) => it.reference,
              cell: (it) => (
                <Link className="link link-hover name font-medium" to={`/drawers/${it.reference}`}>
                  {it.reference}
                </Link>
              ),
            },
            { head: "State", sort: (it) => it.state, cell: (it) => <Mark state={it.state} /> },
            {
              head: "Ends",
              sort: (it) => (it.ends_at ? new Date(it.ends_at).getTime() : Infinity),
              cell: (it) => <When at={it.ends_at} none="no end" />,
            },
            { head: "Owner", className: "name text-sm", sort: (it) => it.owner, cell: (it) => it.owner },
            { head: "Changed", sort: (it) => -new Date(it.changed_at).getTime(), cell: (it) => <When at={it.changed_at} /> },
            { head: "Description", cell: (it) => it.description },
          ]}
        />
      )}
      {found.hasNextPage && (
        <button
          type="button"
          className="btn btn-outline mt-4"
          disabled={found.isFetchingNextPage}
          onClick={() => void found.fetchNextPage()}
        >
          Load more
        </button>
      )}
    </>
  );
}
