import { useQuery } from "@tanstack/react-query";
import { createContext, useContext } from "react";
import { api, data, type Schemas } from "./client";

export type Action = Schemas["ActionName"];

// Viewer is who is signed in; it stays while a session that has ended is renewed.
export const Viewer = createContext<Schemas["Me"] | undefined>(undefined);

// useMay says what the viewer may do on the chest, on anything at all, and on everything. The console offers nothing else, and asks nothing
// that would be refused: a page that is looked at is no refusal in anybody's queue.
export function useMay() {
  const me = useContext(Viewer);
  const of = (actions: Action[] | undefined, any: Action[]) => any.some((action) => actions?.includes(action));
  const owned = me?.may.owns ?? [];
  // Who registers, gives access or reads the trail sees everybody; others themselves, and what they answer for.
  const seesIdentities = of(me?.may.somewhere, ["register", "grant", "read_trail"]);
  return {
    subject: me?.subject ?? "",
    steward: me?.steward ?? false,
    owned,
    ownedApps: owned.filter((subject) => subject.startsWith("app:")),
    chest: (...any: Action[]) => of(me?.may.chest, any),
    somewhere: (...any: Action[]) => of(me?.may.somewhere, any),
    everything: (...any: Action[]) => of(me?.may.everything, any),
    seesIdentities,
    sees: (subject: string) => seesIdentities || subject === me?.subject || owned.includes(subject),
  };
}

// useMayThere says what the viewer may do on a drawer or an item; nothing while that is not known.
export function useMayThere(target: string) {
  const there = useQuery({
    queryKey: ["may", target],
    queryFn: () => data(api.GET("/api/me/may", { params: { query: { target } } })),
  });
  const { actions, need_reason, need_approval, unmet, use_only, requested } = there.data ?? {};
  const may = (...any: Action[]) => any.some((action) => actions?.includes(action));
  const needsApproval = (action: Action) => Boolean(need_approval?.includes(action));
  return {
    known: actions !== undefined,
    error: actions ? null : there.error,
    may,
    needsReason: (action: Action) => Boolean(need_reason?.includes(action)),
    needsApproval,
    useOnly: Boolean(use_only),
    requested,
    unmet: (action: Action) => unmet?.find((u) => u.action === action)?.why,
    reads: may("read_value") && !needsApproval("read_value"), // now, and without anybody else
  };
}
