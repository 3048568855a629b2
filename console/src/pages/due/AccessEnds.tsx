import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { ChooseBox, ChosenActs, useChosen } from "../../parts/Chosen";
import { Mark } from "../../parts/Mark";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";

type End = Schemas["AccessEnd"];

const isGrant = (end: End) => end.kind === "grant" || end.kind === "denial";
const words: Record<string, string> = {
  grant: "grant",
  denial: "denial",
  credential: "credential",
  approval: "approval",
  unlock_method: "unlock method",
  calendar: "calendar address",
};

// AccessEnds lists grants, credentials and the like that end, and renews those that are chosen.
export function AccessEnds({ list }: { list: End[] }) {
  const choosable = list.filter((end) => end.may && isGrant(end));
  const chosen = useChosen(
    choosable.map((end) => ({
      id: end.id,
      subject: end.subject ?? "the chest",
      about: end.about,
      end: end.not_after,
      denies: end.kind === "denial",
      mayEnd: end.kind === "grant", // who may end a denial is seen among the grants
      mayRenew: true,
    })),
  );
  return (
    <section aria-labelledby="access-ends" className="grid gap-2">
      <div className="flex flex-wrap items-end justify-between gap-2">
        <div>
          <h2 id="access-ends" className="text-xl font-semibold">
            Access and credentials
          </h2>
          <p className="muted">
            Yours, those of apps that you answer for, and what you could renew. A grant that another one covers for longer is left out.
          </p>
        </div>
        <ChosenActs from={chosen} />
      </div>
      <Table
        label="Table of access that ends"
        rows={list}
        id={(end) => end.id}
        onFound={chosen.onFound}
        find={(end) => `${end.subject ?? "the chest"} ${end.owner ?? ""} ${end.about} ${end.kind}`}
        columns={[
          choosable.length > 0 && {
            head: "Choose",
            hidden: true,
            cell: (end: End) => <ChooseBox id={end.id} from={chosen} />,
          },
          {
            head: "Whose",
            className: "sm:min-w-44",
            sort: (end) => end.subject ?? "",
            cell: (end) => (
              <>
                {end.subject ? (
                  <Link className="link link-hover name font-medium" to={`/access/${end.subject}`}>
                    {end.subject}
                  </Link>
                ) : (
                  <span className="muted">the chest</span>
                )}
                {end.owner && <span className="name muted block text-sm">{end.owner}</span>}
              </>
            ),
          },
          {
            head: "What",
            className: "sm:min-w-52",
            sort: (end) => end.about,
            cell: (end) => (
              <>
                <span className="name">{end.about}</span>{" "}
                <span className="muted block text-sm">
                  {words[end.kind]}
                  {end.kind === "denial" && ": access opens again when it ends"}
                </span>
              </>
            ),
          },
          { head: "Ends", sort: (end) => new Date(end.not_after).getTime(), cell: (end) => <Ends of={end} /> },
        ]}
      />
    </section>
  );
}

function Ends({ of }: { of: End }) {
  return (
    <>
      <When at={of.not_after} />
      {of.last && (
        <span className="block">
          <Mark state="failed" word="nobody could give access" />
        </span>
      )}
    </>
  );
}
