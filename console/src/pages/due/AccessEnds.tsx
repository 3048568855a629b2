import { useState } from "react";
import { Link } from "react-router";
import type { Schemas } from "../../api/client";
import { useEndGrants, useRenewGrants } from "../../api/ends";
import { Confirm } from "../../parts/Confirm";
import { Mark } from "../../parts/Mark";
import { ProblemBox } from "../../parts/ProblemBox";
import { Table } from "../../parts/Table";
import { When } from "../../parts/When";

type End = Schemas["AccessEnd"];

const isGrant = (end: End) => end.kind === "grant" || end.kind === "denial";
const words: Record<string, string> = {
  grant: "grant",
  denial: "denial",
  credential: "credential",
  approval: "approval",
  unlock_method: "method of unlocking",
  calendar: "calendar address",
};

const grants = (n: number) => (n === 1 ? "1 grant" : `${n} grants`);

// AccessEnds lists grants, credentials and the like that end, and renews those that are chosen. Nothing is chosen by itself.
export function AccessEnds({ list }: { list: End[] }) {
  const [chosen, setChosen] = useState<string[]>([]);
  const [days, setDays] = useState(90);
  const renew = useRenewGrants();
  const [ending, setEnding] = useState(false);
  const endThem = useEndGrants();
  const renewable = list.filter((end) => end.may && isGrant(end));
  const picked = renewable.filter((end) => chosen.includes(end.id));
  const toggle = (id: string) => setChosen(chosen.includes(id) ? chosen.filter((other) => other !== id) : [...chosen, id]);
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
        {renewable.length > 0 && (
          <div className="flex flex-wrap items-center gap-2">
            <select
              className="select select-sm w-auto"
              aria-label="For how long"
              value={days}
              onChange={(e) => setDays(Number(e.target.value))}
            >
              {[30, 90, 365].map((n) => (
                <option key={n} value={n}>
                  for {n} days
                </option>
              ))}
            </select>
            {renewable.length > 1 && (
              <button
                type="button"
                className="btn btn-ghost btn-sm"
                onClick={() => setChosen(picked.length === renewable.length ? [] : renewable.map((end) => end.id))}
              >
                {picked.length === renewable.length ? "Choose none" : "Choose all"}
              </button>
            )}
            {picked.length > 0 && (
              <button type="button" className="btn btn-outline btn-sm" onClick={() => setEnding(true)}>
                End {grants(picked.length)} …
              </button>
            )}
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={picked.length === 0 || renew.isPending}
              onClick={() => renew.mutate({ ids: picked.map((end) => end.id), days }, { onSuccess: () => setChosen([]) })}
            >
              {renew.isPending ? "Renewing …" : `Renew ${picked.length === 0 ? "what you choose" : grants(picked.length)}`}
            </button>
          </div>
        )}
      </div>
      {ending && (
        <Confirm
          title={`End ${grants(picked.length)} now?`}
          action={`End ${grants(picked.length)}`}
          busy={endThem.isPending}
          error={endThem.error}
          onClose={() => setEnding(false)}
          onYes={() =>
            endThem.mutate(
              picked.map((one) => one.id),
              {
                onSuccess: () => {
                  setEnding(false);
                  setChosen([]);
                },
              },
            )
          }
        >
          <p>What only these allow is refused from now on:</p>
          <ul className="max-h-60 list-disc overflow-y-auto pl-6">
            {picked.map((one) => (
              <li key={one.id}>
                <span className="name">{one.subject}</span>: <span className="name">{one.about}</span>
              </li>
            ))}
          </ul>
        </Confirm>
      )}
      {renew.error && <ProblemBox error={renew.error} />}
      {renew.isSuccess && picked.length === 0 && (
        <p role="status" className="text-success font-semibold">
          Renewed: {grants(renew.data.length)}.
        </p>
      )}
      <Table
        label="Table of access that ends"
        rows={list}
        id={(end) => end.id}
        find={(end) => `${end.subject ?? "the chest"} ${end.owner ?? ""} ${end.about} ${end.kind}`}
        columns={[
          renewable.length > 0 && {
            head: "Choose",
            hidden: true,
            cell: (end: End) =>
              end.may &&
              isGrant(end) && (
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  aria-label={`Renew ${end.about} of ${end.subject ?? "the chest"}`}
                  checked={chosen.includes(end.id)}
                  onChange={() => toggle(end.id)}
                />
              ),
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
