import type { Schemas } from "../api/client";
import { Mark } from "./Mark";
import { Scroll } from "./Scroll";

// Difference says who gains and who loses what by a change, on what exists now.
export function Difference({ of: difference }: { of: Schemas["Difference"] }) {
  return (
    <div className="grid gap-3">
      {difference.changes.length === 0 && <p className="muted">Nobody gains or loses access to anything that exists now.</p>}
      {difference.changes.length > 0 && (
        <Scroll label="Table of who gains and loses what">
          <table className="dense table">
            <thead>
              <tr>
                <th scope="col">Who</th>
                <th scope="col">What changes</th>
                <th scope="col">Actions</th>
                <th scope="col">On</th>
              </tr>
            </thead>
            <tbody>{difference.changes.flatMap((c) => rows(c))}</tbody>
          </table>
        </Scroll>
      )}
      {difference.notes.map((n) => (
        <p key={n} className="text-warning font-semibold">
          Note: {n}
        </p>
      ))}
    </div>
  );
}

function rows(change: Schemas["Change"]) {
  const parts = [
    { state: "gains", actions: change.gained },
    { state: "loses", actions: change.lost },
    { state: "altered", actions: change.altered },
  ];
  return parts
    .filter((p) => p.actions.length > 0)
    .map((p) => (
      <tr key={`${change.subject} ${p.state} ${change.targets.join()}`}>
        <td className="name min-w-44">{change.subject}</td>
        <td>
          <Mark state={p.state} word={p.state === "altered" ? "on other terms" : p.state} />
        </td>
        <td className="min-w-32">{p.actions.map((a) => a.replaceAll("_", " ")).join(", ")}</td>
        <td className="min-w-52">
          <Targets list={change.targets} />
        </td>
      </tr>
    ));
}

const most = 8;

function Targets({ list }: { list: string[] }) {
  return (
    <ul>
      {list.slice(0, most).map((t) => (
        <li key={t} className="name text-sm">
          {t || "the chest"}
        </li>
      ))}
      {list.length > most && <li className="muted text-sm">and {list.length - most} more</li>}
    </ul>
  );
}
