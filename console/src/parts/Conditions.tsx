import type { Schemas } from "../api/client";
import { ways } from "./ways";

// Conditions says what must hold besides a grant's subject, role and scope.
export function Conditions({ of: grant }: { of: Schemas["Grant"] }) {
  const parts: string[] = [];
  if (grant.networks?.length) parts.push(`from ${grant.networks.join(", ")}`);
  if (grant.hours) parts.push(grant.hours);
  if (grant.via?.length) parts.push(`by ${grant.via.map((w) => ways[w]).join(" or ")}`);
  if (grant.needs_reason) parts.push("with a stated reason");
  if (parts.length === 0) return <span className="muted">none</span>;
  return (
    <ul>
      {parts.map((p) => (
        <li key={p} className="text-sm">
          {p}
        </li>
      ))}
    </ul>
  );
}
