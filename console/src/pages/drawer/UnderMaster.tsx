import type { Schemas } from "../../api/client";
import { Mark } from "../../parts/Mark";

// UnderMaster says which master key a drawer is under, and when that closes it.
export function UnderMaster({ of }: { of: Schemas["Drawer"] }) {
  if (!of.master_key) return null;
  const name = <span className="name">{of.master_key}</span>;
  if (of.master_key_state === "at_hand") return <p>Under master key {name}</p>;
  return (
    <p role="alert">
      <Mark state="closed" word="Closed" />: its master key {name}{" "}
      {of.master_key_state === "withdrawn" ? "was withdrawn" : "is not at hand"}. Nothing in it can be read or changed until that is given
      back.
    </p>
  );
}
