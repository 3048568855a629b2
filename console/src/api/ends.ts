import { useQuery } from "@tanstack/react-query";
import { api, data } from "./client";
import { useChange } from "./queries";

// What of access ends, and letting it last longer.

export const useAccessEnds = (hours: number) =>
  useQuery({ queryKey: ["due", "access", hours], queryFn: () => data(api.GET("/api/due/access", { params: { query: { hours } } })) });
// One after the other; the first that cannot be renewed ends it, and says why. Those before it are renewed.
export const useRenewGrants = () =>
  useChange(async ({ ids, days }: { ids: string[]; days: number }) => {
    const not_after = new Date(Date.now() + days * 86_400_000).toISOString();
    const renewed: string[] = [];
    for (const grant of ids) {
      const given = await data(api.POST("/api/grants/{grant}/renewal", { params: { path: { grant } }, body: { not_after } }));
      renewed.push(given.grant.id);
    }
    return renewed;
  });

export const useEndGrants = () =>
  useChange(async (ids: string[]) => {
    for (const grant of ids) await data(api.DELETE("/api/grants/{grant}", { params: { path: { grant } } }));
  });
