import { useInfiniteQuery, useMutation, useQuery } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";
import { daysAgo, useChange } from "./queries";

// Who may do what: roles, grants, requests, and questions about them.
export const useGrants = (subject?: string, enabled = true) =>
  useQuery({
    enabled,
    queryKey: ["grants", subject ?? ""],
    queryFn: () => data(api.GET("/api/grants", { params: { query: subject ? { subject } : {} } })),
  });
export const useRoles = () => useQuery({ queryKey: ["roles"], queryFn: () => data(api.GET("/api/roles")), staleTime: Infinity });
export const useRefusals = (days: number) =>
  useQuery({
    queryKey: ["refusals", days],
    queryFn: () => data(api.GET("/api/refusals", { params: { query: { since: daysAgo(days) } } })),
  });
export const useReaders = (drawer: string, item: string, enabled: boolean) =>
  useQuery({
    enabled,
    queryKey: ["readers", drawer, item],
    queryFn: () => data(api.GET("/api/drawers/{drawer}/items/{item}/readers", { params: { path: { drawer, item } } })),
  });
// Asking about access is an act of its own, in the trail: it is done when somebody presses for it.
export const useHolders = (action: string, target: string, enabled: boolean) =>
  useQuery({
    enabled,
    queryKey: ["holders", action, target],
    queryFn: () => data(api.GET("/api/ask/holders", { params: { query: { action, target } } })),
  });
export const usePaths = (action: string, target: string, enabled: boolean) =>
  useQuery({
    enabled,
    queryKey: ["paths", action, target],
    queryFn: () => data(api.GET("/api/ask/paths", { params: { query: { action, target } } })),
    retry: false,
  });
export const useReach = (subject: string, enabled: boolean) =>
  useQuery({ enabled, queryKey: ["reach", subject], queryFn: () => data(api.GET("/api/ask/reach", { params: { query: { subject } } })) });
export const useMatrix = (query: { drawer?: string }, enabled: boolean) =>
  useQuery({ enabled, queryKey: ["matrix", query], queryFn: () => data(api.GET("/api/ask/matrix", { params: { query } })) });
export const useMatrixPages = (enabled: boolean) =>
  useInfiniteQuery({
    enabled,
    queryKey: ["matrix"],
    queryFn: ({ pageParam }) =>
      data(api.GET("/api/ask/matrix", { params: { query: { limit: 100, ...(pageParam && { cursor: pageParam }) } } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next_cursor || undefined,
  });
export const useVerdict = () =>
  useMutation({
    mutationFn: (query: { subject: string; action: string; target: string; at?: string; addr?: string; via?: string; reason?: string }) =>
      data(api.GET("/api/ask/verdict", { params: { query } })),
  });
export const useStoreRole = (name?: string) =>
  useChange((body: Schemas["NewRole"]) =>
    data(name ? api.PUT("/api/roles/{role}", { params: { path: { role: name } }, body }) : api.POST("/api/roles", { body })),
  );
export const useRemoveRole = () => useChange((role: string) => data(api.DELETE("/api/roles/{role}", { params: { path: { role } } })));
export const usePreview = (proposal: Schemas["Proposal"] | undefined) =>
  useQuery({
    enabled: proposal !== undefined,
    queryKey: ["preview", proposal],
    queryFn: () => data(api.POST("/api/ask/difference", { body: proposal ?? {} })),
    retry: false,
  });
export const useRequests = () => useQuery({ queryKey: ["requests"], queryFn: () => data(api.GET("/api/requests")) });
export const usePolicy = () => useQuery({ queryKey: ["policy"], queryFn: () => data(api.GET("/api/policy")) });
export const useTighten = (days: number) =>
  useQuery({
    queryKey: ["tighten", days],
    queryFn: () => data(api.GET("/api/tighten", { params: { query: { since: new Date(Date.now() - days * 86_400_000).toISOString() } } })),
  });
export const useGive = () => useChange((body: Schemas["NewGrant"]) => data(api.POST("/api/grants", { body })));
export const useEndGrant = () => useChange((grant: string) => data(api.DELETE("/api/grants/{grant}", { params: { path: { grant } } })));
export const useAskFor = () => useChange((body: Schemas["NewRequest"]) => data(api.POST("/api/requests", { body })));
export const useAnswerRequest = () =>
  useChange(({ id, ...body }: Schemas["Answer"] & { id: string }) =>
    data(api.POST("/api/requests/{request}/answer", { params: { path: { request: id } }, body })),
  );
export const useWithdraw = () =>
  useChange((request: string) => data(api.DELETE("/api/requests/{request}", { params: { path: { request } } })));
export const useDecline = () =>
  useChange(({ receipt, because }: { receipt: string; because: string }) =>
    data(api.POST("/api/receipts/{receipt}/decline", { params: { path: { receipt } }, body: { because } })),
  );
export const useDiffPolicy = () =>
  useMutation({ mutationFn: (policy: string) => data(api.POST("/api/policy/difference", { body: { policy } })) });
export const useApplyPolicy = () => useChange((body: Schemas["Applying"]) => data(api.PUT("/api/policy", { body })));
export const useSetStewardsAside = () => useMutation({ mutationFn: () => data(api.POST("/api/steward/set-aside")) });
