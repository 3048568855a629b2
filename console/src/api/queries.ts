import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";

// Server state lives in these queries and nowhere else. Values are never in them: see pages/item/Reveal.tsx.

export const useStatus = () => useQuery({ queryKey: ["status"], queryFn: () => data(api.GET("/api/status")), refetchInterval: 15_000 });
export const useUpkeep = () => useQuery({ queryKey: ["upkeep"], queryFn: () => data(api.GET("/api/trail/upkeep")) });
export const useArchives = () => useQuery({ queryKey: ["archives"], queryFn: () => data(api.GET("/api/trail/archives")) });
export const useMe = () => useQuery({ queryKey: ["me"], queryFn: () => data(api.GET("/api/me")), retry: false });
export const useDrawers = () => useQuery({ queryKey: ["drawers"], queryFn: () => data(api.GET("/api/drawers")) });

export const useDrawer = (drawer: string, retired: boolean) =>
  useInfiniteQuery({
    queryKey: ["drawers", drawer, { retired }],
    queryFn: ({ pageParam }) => data(api.GET("/api/drawers/{drawer}", { params: { path: { drawer }, query: { ...(retired && { retired: true }), ...(pageParam && { cursor: pageParam }) } } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next_cursor || undefined,
    placeholderData: keepPreviousData,
  });

export const useLimits = () => useQuery({ queryKey: ["limits"], queryFn: () => data(api.GET("/api/limits")), staleTime: Infinity });
export const useDue = (hours: number) => useQuery({ queryKey: ["due", hours], queryFn: () => data(api.GET("/api/due", { params: { query: { hours } } })) });
export const useCalendars = () => useQuery({ queryKey: ["calendars"], queryFn: () => data(api.GET("/api/calendars")) });

export const useItem = (drawer: string, item: string) =>
  useQuery({
    queryKey: ["drawers", drawer, item],
    queryFn: () => data(api.GET("/api/drawers/{drawer}/items/{item}", { params: { path: { drawer, item } } })),
  });

export const useSearch = (q: string) =>
  useInfiniteQuery({
    queryKey: ["search", q],
    queryFn: ({ pageParam }) => data(api.GET("/api/search", { params: { query: { q, ...(pageParam && { cursor: pageParam }) } } })),
    initialPageParam: "",
    getNextPageParam: (page) => page.next_cursor || undefined,
  });

export const useIdentities = () => useQuery({ queryKey: ["identities"], queryFn: () => data(api.GET("/api/identities")) });

export const useIdentity = (subject: string) =>
  useQuery({
    queryKey: ["identities", subject],
    queryFn: () => data(api.GET("/api/identities/{subject}", { params: { path: { subject } } })),
  });

export const useReadings = (subject: string) =>
  useQuery({ queryKey: ["identities", subject, "reads"], queryFn: () => data(api.GET("/api/identities/{subject}/reads", { params: { path: { subject } } })) });

// A preflight asks about a hundred values at once; longer lists are asked for in parts.
export const usePreflight = (subject: string) =>
  useMutation({
    mutationFn: async (references: string[]) => {
      const checks: Schemas["Check"][] = [];
      for (let at = 0; at < references.length; at += 100) checks.push(...(await data(api.POST("/api/preflight", { body: { subject, references: references.slice(at, at + 100) } }))).checks);
      return { checks };
    },
  });

export const useManifest = () => useMutation({ mutationFn: (text: string) => data(api.POST("/api/manifest", { body: { text } })) });

export const useSamples = (reference: string) =>
  useQuery({ queryKey: ["samples", reference], queryFn: () => data(api.GET("/api/samples", { params: { query: { reference } } })), staleTime: Infinity });

export const useGrants = (subject?: string) =>
  useQuery({
    queryKey: ["grants", subject ?? ""],
    queryFn: () => data(api.GET("/api/grants", { params: { query: subject ? { subject } : {} } })),
  });

export const useRoles = () => useQuery({ queryKey: ["roles"], queryFn: () => data(api.GET("/api/roles")), staleTime: Infinity });

export const useRefusals = () => useQuery({ queryKey: ["refusals"], queryFn: () => data(api.GET("/api/refusals")) });

export const useReaders = (drawer: string, item: string, enabled: boolean) =>
  useQuery({ enabled, queryKey: ["readers", drawer, item], queryFn: () => data(api.GET("/api/drawers/{drawer}/items/{item}/readers", { params: { path: { drawer, item } } })) });

// Asking about access is an act of its own, in the trail: it is done when somebody presses for it.
export const useHolders = (action: string, target: string, enabled: boolean) =>
  useQuery({ enabled, queryKey: ["holders", action, target], queryFn: () => data(api.GET("/api/ask/holders", { params: { query: { action, target } } })) });

export const usePaths = (action: string, target: string, enabled: boolean) =>
  useQuery({
    enabled,
    queryKey: ["paths", action, target],
    queryFn: () => data(api.GET("/api/ask/paths", { params: { query: { action, target } } })),
    retry: false,
  });

export const useReach = (subject: string, enabled: boolean) =>
  useQuery({ enabled, queryKey: ["reach", subject], queryFn: () => data(api.GET("/api/ask/reach", { params: { query: { subject } } })) });

export const useMatrix = (enabled: boolean) => useQuery({ enabled, queryKey: ["matrix"], queryFn: () => data(api.GET("/api/ask/matrix")) });
export const usePreview = (proposal: Schemas["Proposal"] | undefined) =>
  useQuery({ enabled: proposal !== undefined, queryKey: ["preview", proposal], queryFn: () => data(api.POST("/api/ask/difference", { body: proposal ?? {} })), retry: false });
export const useRequests = () => useQuery({ queryKey: ["requests"], queryFn: () => data(api.GET("/api/requests")) });
export const usePolicy = () => useQuery({ queryKey: ["policy"], queryFn: () => data(api.GET("/api/policy")) });
export const useTighten = (days: number) =>
  useQuery({
    queryKey: ["tighten", days],
    queryFn: () => data(api.GET("/api/tighten", { params: { query: { since: new Date(Date.now() - days * 86_400_000).toISOString() } } })),
  });
export const useOwned = (subject: string) =>
  useQuery({ queryKey: ["owned", subject], queryFn: () => data(api.GET("/api/identities/{subject}/owned", { params: { path: { subject } } })) });

// Reports are asked from midnight, so that the same question has the same key.
const daysAgo = (days: number) => `${new Date(Date.now() - days * 86_400_000).toISOString().slice(0, 10)}T00:00:00Z`;
export const useUnusual = (days: number) =>
  useQuery({ queryKey: ["unusual", days], queryFn: () => data(api.GET("/api/trail/unusual", { params: { query: { since: daysAgo(days) } } })) });
export const useActivity = (days: number) =>
  useQuery({ queryKey: ["activity", days], queryFn: () => data(api.GET("/api/trail/activity", { params: { query: { since: daysAgo(days) } } })) });
export const useExposure = (drawer: string, item: string) =>
  useMutation({
    mutationFn: async (body: Schemas["NewExposure"]) => (await data(api.POST("/api/drawers/{drawer}/items/{item}/exposure", { params: { path: { drawer, item } }, body }))) as Schemas["Exposure"], // not as Markdown
  });

export type TrailFilter = { q?: string; subject?: string; action?: string; target?: string; outcome?: string; archive?: string; cursor?: string };

export const useTrail = (query: TrailFilter) =>
  useQuery({
    queryKey: ["trail", query],
    queryFn: () => data(api.GET("/api/trail", { params: { query } })),
    placeholderData: keepPreviousData,
  });

export const useReceipt = (receipt: string) =>
  useQuery({ queryKey: ["receipts", receipt], queryFn: () => data(api.GET("/api/receipts/{receipt}", { params: { path: { receipt } } })) });

// A change makes everything that is shown be asked for again.
export function useChange<In, Out>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: () => queries.invalidateQueries() });
}

export const useSignIn = () =>
  useChange((body: { person: string; password: string }) => data(api.POST("/api/sign-in", { body: { ...body, session: "cookie" } })));
export const useEnrol = () =>
  useChange((body: { code: string; password: string }) => data(api.POST("/api/enrol", { body: { ...body, session: "cookie" } })));
export const useUnlock = () => useChange((body: Schemas["Unlock"]) => data(api.POST("/api/unlock", { body })));
export const useUnlockMethods = () => useQuery({ queryKey: ["unlock-methods"], queryFn: () => data(api.GET("/api/unlock-methods")) });
export const useAddUnlockMethod = () => useChange((body: Schemas["NewUnlockMethod"]) => data(api.POST("/api/unlock-methods", { body })));
export const useEndUnlockMethod = () =>
  useChange(({ method, current }: { method: string; current: string }) => data(api.POST("/api/unlock-methods/{method}/end", { params: { path: { method } }, body: { current } })));
export const useTurnRootKey = () => useChange((current: string) => data(api.POST("/api/root-key/turn", { body: { current } })));
export const useShares = () => useQuery({ queryKey: ["shares"], queryFn: () => data(api.GET("/api/me/shares")) });
// What is taken is shown once and kept in no query: its answer is the mutation's, and goes with the page.
export const useTakeShare = () => useChange((share: string) => data(api.POST("/api/me/shares/{share}/take", { params: { path: { share } } })));
export const useBackups = () => useQuery({ queryKey: ["backups"], queryFn: () => data(api.GET("/api/backups")) });
export const useBackUp = () => useChange((full: boolean) => data(api.POST("/api/backups", { body: { full } })));
export const useRehearse = () => useChange((number: number) => data(api.POST("/api/backups/rehearse", { body: { number } })));
export const useCreateDrawer = () => useChange((body: Schemas["NewDrawer"]) => data(api.POST("/api/drawers", { body })));

export const useCreateItem = (drawer: string) =>
  useChange((body: Schemas["NewItem"]) => data(api.POST("/api/drawers/{drawer}/items", { params: { path: { drawer } }, body })));

export const useAddVersion = (drawer: string, item: string, revision: number) =>
  useChange((body: Schemas["NewVersion"]) =>
    data(
      api.POST("/api/drawers/{drawer}/items/{item}/versions", {
        params: { path: { drawer, item }, header: { "If-Match": `"r${revision}"` } },
        body,
      }),
    ),
  );

export const useAct = (drawer: string, item: string) =>
  useChange((body: Schemas["Act"]) => data(api.POST("/api/drawers/{drawer}/items/{item}/acts", { params: { path: { drawer, item } }, body })));

export const useSetWindow = (drawer: string, item: string) =>
  useChange((body: Schemas["NewWindow"]) =>
    data(api.PUT("/api/drawers/{drawer}/items/{item}/window", { params: { path: { drawer, item } }, body })),
  );

// Trying rules changes nothing, so nothing is asked for again.
const rulesOf = (drawer: Schemas["Drawer"]) => (body: Schemas["NewRules"]) =>
  data(api.PUT("/api/drawers/{drawer}/rules", { params: { path: { drawer: drawer.name }, header: { "If-Match": `"r${drawer.revision}"` } }, body }));
export const useTryRules = (drawer: Schemas["Drawer"]) => useMutation({ mutationFn: rulesOf(drawer) });
export const useSetRules = (drawer: Schemas["Drawer"]) => useChange(rulesOf(drawer));
type Import = Schemas["NewImport"];
export const useImport = (drawer: string) => useChange((body: Import) => data(api.POST("/api/drawers/{drawer}/import", { params: { path: { drawer } }, body })));
export const useExport = (drawer: string) =>
  useMutation({ mutationFn: (body: Schemas["NewExport"]) => data(api.POST("/api/drawers/{drawer}/export", { params: { path: { drawer } }, body })) });
export const useMove = (drawer: string, item: string) =>
  useChange((body: Schemas["NewPlace"]) => data(api.POST("/api/drawers/{drawer}/items/{item}/move", { params: { path: { drawer, item } }, body })));
export const useEndAlias = () =>
  useChange((reference: string) => {
    const [drawer = "", item = ""] = reference.split("/");
    return data(api.DELETE("/api/drawers/{drawer}/aliases/{item}", { params: { path: { drawer, item } } }));
  });
export const useRotateKey = (drawer: string) => useChange(() => data(api.POST("/api/drawers/{drawer}/key", { params: { path: { drawer } } })));
export const useShredDrawer = (drawer: string) =>
  useChange((name: string) => data(api.POST("/api/drawers/{drawer}/shred", { params: { path: { drawer } }, body: { name } })));
const at = (drawer: string, item: Schemas["Item"]) => ({ path: { drawer, item: item.name }, header: { "If-Match": `"r${item.revision}"` } });
export const useSetItemRules = (drawer: string, item: Schemas["Item"]) =>
  useChange((body: Schemas["NewItemRules"]) =>
    data(api.PUT("/api/drawers/{drawer}/items/{item}/rules", { params: at(drawer, item), body })),
  );
export const useUseOnly = (drawer: string, item: Schemas["Item"]) =>
  useChange(() => data(api.PATCH("/api/drawers/{drawer}/items/{item}", { params: at(drawer, item), body: { use_only: true } })));
export const useNewCalendar = () => useChange((note: string) => data(api.POST("/api/calendars", { body: { note } })));
export const useEndCalendar = () => useChange((calendar: string) => data(api.DELETE("/api/calendars/{calendar}", { params: { path: { calendar } } })));

export const useRegister = () => useChange((body: Schemas["NewIdentity"]) => data(api.POST("/api/identities", { body })));
export const useJoin = (subject: string) =>
  useChange((member: string) => data(api.PUT("/api/identities/{subject}/members/{member}", { params: { path: { subject, member } } })));
export const useLeave = (subject: string) =>
  useChange((member: string) => data(api.DELETE("/api/identities/{subject}/members/{member}", { params: { path: { subject, member } } })));
export const useGive = () => useChange((body: Schemas["NewGrant"]) => data(api.POST("/api/grants", { body })));
// One after the other; the first that cannot be renewed ends it, and says why. Those before it are renewed.
export const useEndGrant = () => useChange((grant: string) => data(api.DELETE("/api/grants/{grant}", { params: { path: { grant } } })));
export const useHandOver = (subject: string) =>
  useChange((to: string) => data(api.POST("/api/identities/{subject}/hand-over", { params: { path: { subject } }, body: { to } })));
export const useAskFor = () => useChange((body: Schemas["NewRequest"]) => data(api.POST("/api/requests", { body })));
export const useAnswerRequest = () =>
  useChange(({ id, ...body }: Schemas["Answer"] & { id: string }) => data(api.POST("/api/requests/{request}/answer", { params: { path: { request: id } }, body })));
export const useWithdraw = () => useChange((request: string) => data(api.DELETE("/api/requests/{request}", { params: { path: { request } } })));
export const useDecline = () =>
  useChange(({ receipt, because }: { receipt: string; because: string }) => data(api.POST("/api/receipts/{receipt}/decline", { params: { path: { receipt } }, body: { because } })));
export const useDiffPolicy = () => useMutation({ mutationFn: (policy: string) => data(api.POST("/api/policy/difference", { body: { policy } })) });
export const useApplyPolicy = () => useChange((body: Schemas["Applying"]) => data(api.PUT("/api/policy", { body })));
export const useSetStewardsAside = () => useMutation({ mutationFn: () => data(api.POST("/api/steward/set-aside")) });
export const useSetState = (subject: string) =>
  useChange((state: "active" | "suspended") =>
    data(api.PATCH("/api/identities/{subject}", { params: { path: { subject } }, body: { state } })));
export const useConfirm = (subject: string) =>
  useChange(() => data(api.PATCH("/api/identities/{subject}", { params: { path: { subject } }, body: { confirmed: true } })));
export const useEndCredential = (subject: string) =>
  useChange((credential: string) => data(api.DELETE("/api/identities/{subject}/credentials/{credential}", { params: { path: { subject, credential } } })));
export const useIssueCredential = (subject: string) =>
  useChange((body: Schemas["NewCredential"]) => data(api.POST("/api/identities/{subject}/credentials", { params: { path: { subject } }, body })));
