import type { MasterKey } from "../api/masters";
import { Choice } from "./Field";

// UnderChoice chooses what a drawer's key is under, among the master keys that are at hand.
export function UnderChoice({ label, keys, now }: { label: string; keys: MasterKey[]; now?: string }) {
  const options = keys.filter((k) => k.state === "at_hand").map((k) => ({ value: k.name, text: `the root key and master key ${k.name}` }));
  return (
    <Choice
      label={label}
      name="under"
      defaultValue={now}
      options={[{ value: "", text: "the root key alone" }, ...options]}
      hint="Under a master key, the drawer is closed while that is withdrawn."
    />
  );
}
