import { keepPreviousData, useMutation, useQuery } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";
import { daysAgo, useChange } from "./queries";

// The trail, and what is worked out of it.
export const useUpkeep = () => useQuery({ queryKey: ["upkeep"], queryFn: () => data(api.GET("/api/trail/upkeep")) });
export const useArchives = () => useQuery({ queryKey: ["archives"], queryFn: () => data(api.GET("/api/trail/archives")) });
export const useUnusual = (days: number) =>
  useQuery({
    queryKey: ["unusual", days],
    queryFn: () => data(api.GET("/api/trail/unusual", { params: { query: { since: daysAgo(days) } } })),
  });
export const useActivity = (days: number) =>
  useQuery({
    queryKey: ["activity", days],
    queryFn: () => data(api.GET("/api/trail/activity", { params: { query: { since: daysAgo(days) } } })),
  });
export const useExposure = (drawer: string, item: string) =>
  useMutation({
    mutationFn: async (body: Schemas["NewExposure"]) =>
      (await data(
        api.POST("/api/drawers/{drawer}/items/{item}/exposure", { params: { path: { drawer, item } }, body }),
      )) as Schemas["Exposure"], // not as Markdown
  });
// exposureReport is the same as a report to keep, as Markdown.
export async function exposureReport(drawer: string, item: string, body: Schemas["NewExposure"]): Promise<string> {
  const asked = { params: { path: { drawer, item } }, body, headers: { Accept: "text/markdown" }, parseAs: "text" as const };
  return data(
    api.POST("/api/drawers/{drawer}/items/{item}/exposure", asked) as Promise<{ data?: string; error?: unknown; response: Response }>,
  );
}
export type TrailFilter = Partial<
  Record<
    "q" | "subject" | "action" | "target" | "outcome" | "grant" | "addr" | "request_id" | "since" | "until" | "archive" | "cursor",
    string
  >
>;
export const useTrail = (query: TrailFilter, enabled = true) =>
  useQuery({
    enabled,
    queryKey: ["trail", query],
    queryFn: () => data(api.GET("/api/trail", { params: { query } })),
    placeholderData: keepPreviousData,
  });
export const useMakeCheckpoint = () => useChange(() => data(api.POST("/api/trail/checkpoints")));
export const useVerifierKey = () =>
  useQuery({ queryKey: ["verifier-key"], queryFn: () => data(api.GET("/api/trail/key")), staleTime: Infinity });
export const useReceipt = (receipt: string) =>
  useQuery({ queryKey: ["receipts", receipt], queryFn: () => data(api.GET("/api/receipts/{receipt}", { params: { path: { receipt } } })) });
