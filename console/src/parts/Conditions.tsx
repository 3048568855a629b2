import type { Schemas } from "../api/client";

const ways: Record<string, string> = { app_token: "an app's token", person_token: "the command line", console_session: "the console" };

// Conditions says what must hold besides a grant's subject, role and scope.
export function Conditions({ of: grant }: { of: Schemas["Grant"] }) {
  const parts: string[] = [];
  if (grant.networks?.length) parts.push(`from ${grant.networks.join(", ")}`);
  if (grant.hours) parts.push(grant.hours);
  if (grant.via?.length) parts.push(`by ${grant.via.map((w) => ways[w] ?? w).join(" or ")}`);
  if (grant.needs_reason) parts.push("with a stated reason");
  if (parts.length === 0) return <span className="muted">none</span>;
  return <ul>{parts.map((p) => <li key={p} className="text-sm">{p}</li>)}</ul>;
}
