import { useState } from "react";
import { useEndGrants, useRenewGrants } from "../api/ends";
import { Confirm } from "./Confirm";
import { ProblemBox } from "./ProblemBox";

// Choosable is a grant that can be chosen: whose it is, what it gives, and what the viewer may do with it.
export type Choosable = { id: string; subject: string; about: string; end?: string; denies: boolean; mayEnd: boolean; mayRenew: boolean };

// What ends within an hour of when it would end anyway is not worth renewing.
const anHour = 3_600_000;

const grants = (n: number) => (n === 1 ? "1 grant" : `${n} grants`);

// useChosen keeps which rows of a list are chosen. Nothing is chosen by itself, and what is not in the list any more is not chosen.
export function useChosen(list: Choosable[]) {
  const [ids, setIds] = useState<string[]>([]);
  const [found, setFound] = useState<string[]>(); // what a filter leaves of the list
  const chosen = new Set(ids);
  const left = found && new Set(found);
  const byID = new Map(list.map((one) => [one.id, one]));
  return {
    list,
    of: (id: string) => byID.get(id),
    onFound: setFound,
    all: left ? list.filter((one) => left.has(one.id)) : list,
    filtered: left !== undefined,
    picked: list.filter((one) => chosen.has(one.id)),
    has: (id: string) => chosen.has(id),
    toggle: (id: string) => setIds(chosen.has(id) ? ids.filter((other) => other !== id) : [...ids, id]),
    set: setIds,
  };
}

// ChooseBox is the mark beside a row that can be chosen.
export function ChooseBox({ id, from }: { id: string; from: ReturnType<typeof useChosen> }) {
  const one = from.of(id);
  if (!one) return null;
  return (
    <input
      type="checkbox"
      className="checkbox checkbox-sm"
      aria-label={`Choose ${one.about} of ${one.subject}`}
      checked={from.has(one.id)}
      onChange={() => from.toggle(one.id)}
    />
  );
}

// ChosenActs renews or ends what is chosen. Ending asks first, and says whose access ends.
export function ChosenActs({ from }: { from: ReturnType<typeof useChosen> }) {
  const { list, picked, set } = from;
  const [opened] = useState(Date.now);
  const [days, setDays] = useState(90);
  const [ending, setEnding] = useState(false);
  const renew = useRenewGrants();
  const end = useEndGrants();
  const ids = picked.map((one) => one.id);
  const done = () => {
    setEnding(false);
    set([]);
  };
  const renewable = picked.length === 0 || picked.every((one) => one.mayRenew);
  const until = opened + days * 86_400_000 - anHour;
  const sooner = picked.filter((one) => one.end && new Date(one.end).getTime() < until); // renewing the others would shorten them
  const everything = from.all.length > 0 && from.all.every((one) => from.has(one.id));
  if (list.length === 0) return null;
  return (
    <div className="grid justify-items-end gap-2 print:hidden">
      <div className="flex flex-wrap items-center gap-2">
        {list.length > 1 && (
          <button type="button" className="btn btn-ghost btn-sm" onClick={() => set(everything ? [] : from.all.map((one) => one.id))}>
            {everything ? "Choose none" : from.filtered ? `Choose the ${from.all.length} found` : "Choose all"}
          </button>
        )}
        {picked.length > 0 && picked.every((one) => one.mayEnd) && (
          <button type="button" className="btn btn-outline btn-sm" onClick={() => setEnding(true)}>
            End {grants(picked.length)} …
          </button>
        )}
        {renewable && (
          <>
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
            <button
              type="button"
              className="btn btn-primary btn-sm"
              disabled={sooner.length === 0 || renew.isPending}
              onClick={() => renew.mutate({ ids: sooner.map((one) => one.id), days }, { onSuccess: done })}
            >
              {renew.isPending ? "Renewing …" : `Renew ${picked.length === 0 ? "what you choose" : grants(sooner.length)}`}
            </button>
          </>
        )}
      </div>
      {renewable && picked.length > sooner.length && (
        <p role="status" className="muted text-sm">
          {picked.length - sooner.length} of those chosen last for {days} days or more anyway: they stay as they are.
        </p>
      )}
      {renew.error && <ProblemBox error={renew.error} />}
      {renew.isSuccess && picked.length === 0 && (
        <p role="status" className="text-success font-semibold">
          Renewed: {grants(renew.data.length)}.
        </p>
      )}
      {ending && (
        <Confirm
          title={`End ${grants(picked.length)} now?`}
          action={`End ${grants(picked.length)}`}
          busy={end.isPending}
          error={end.error}
          onClose={() => setEnding(false)}
          onYes={() => end.mutate(ids, { onSuccess: done })}
        >
          <p>
            {picked.some((one) => !one.denies) && "What only these allow is refused from now on. "}
            {picked.some((one) => one.denies) && "What these deny may be allowed again by other grants."}
          </p>
          <ul className="max-h-60 list-disc overflow-y-auto pl-6">
            {picked.map((one) => (
              <li key={one.id}>
                <span className="name">{one.subject}</span>: <span className="name">{one.about}</span>
              </li>
            ))}
          </ul>
        </Confirm>
      )}
    </div>
  );
}
