import { keepPreviousData, useInfiniteQuery, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";

// Server state lives in these queries and nowhere else. Values are never in them: see pages/item/Reveal.tsx.

export const useMe = () => useQuery<Schemas["Me"] | null>({ queryKey: ["me"], queryFn: () => data(api.GET("/api/me")), retry: false });
export const useDrawers = (enabled = true) => useQuery({ enabled, queryKey: ["drawers"], queryFn: () => data(api.GET("/api/drawers")) });

export const useDrawer = (drawer: string, retired: boolean, enabled = true) =>
  useInfiniteQuery({
    enabled,
    queryKey: ["drawers", drawer, { retired }],
    queryFn: ({ pageParam }) =>
      data(
        api.GET("/api/drawers/{drawer}", {
          params: { path: { drawer }, query: { ...(retired && { retired: true }), ...(pageParam && { cursor: pageParam }) } },
        }),
      ),
    initialPageParam: "",
    getNextPageParam: (page) => page.next_cursor || undefined,
    placeholderData: keepPreviousData,
  });

export const useLimits = () => useQuery({ queryKey: ["limits"], queryFn: () => data(api.GET("/api/limits")), staleTime: Infinity });
export const useDue = (hours: number, enabled = true) =>
  useQuery({ enabled, queryKey: ["due", hours], queryFn: () => data(api.GET("/api/due", { params: { query: { hours } } })) });
export const useCalendars = () => useQuery({ queryKey: ["calendars"], queryFn: () => data(api.GET("/api/calendars")) });

export const useItem = (drawer: string, item: string, enabled = true) =>
  useQuery({
    enabled,
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

export const useFind = (q: string) =>
  useQuery({
    enabled: q !== "",
    queryKey: ["find", q],
    queryFn: ({ signal }) => data(api.GET("/api/find", { params: { query: { q } }, signal })),
    placeholderData: keepPreviousData,
  });

export const useIdentities = (enabled = true) =>
  useQuery({ enabled, queryKey: ["identities"], queryFn: () => data(api.GET("/api/identities")) });

export const useIdentity = (subject: string, enabled = true) =>
  useQuery({
    enabled,
    queryKey: ["identities", subject],
    queryFn: () => data(api.GET("/api/identities/{subject}", { params: { path: { subject } } })),
  });

export const useReadings = (subject: string, enabled = true) =>
  useQuery({
    enabled,
    queryKey: ["identities", subject, "reads"],
    queryFn: () => data(api.GET("/api/identities/{subject}/reads", { params: { path: { subject } } })),
  });

// A preflight asks about a hundred values at once; longer lists are asked for in parts.
export const usePreflight = (subject: string) =>
  useMutation({
    mutationFn: async (references: string[]) => {
      const checks: Schemas["Check"][] = [];
      for (let at = 0; at < references.length; at += 100)
        checks.push(...(await data(api.POST("/api/preflight", { body: { subject, references: references.slice(at, at + 100) } }))).checks);
      return { checks };
    },
  });

export const useManifest = () => useMutation({ mutationFn: (text: string) => data(api.POST("/api/manifest", { body: { text } })) });

export const useSamples = (reference: string) =>
  useQuery({
    queryKey: ["samples", reference],
    queryFn: () => data(api.GET("/api/samples", { params: { query: { reference } } })),
    staleTime: Infinity,
  });

export const useDescribeDrawer = (drawer: Schemas["Drawer"]) =>
  useChange((body: Schemas["Described"]) =>
    data(
      api.PATCH("/api/drawers/{drawer}", {
        params: { path: { drawer: drawer.name }, header: { "If-Match": `"r${drawer.revision}"` } },
        body,
      }),
    ),
  );
export const useDescribeItem = (drawer: string, item: Schemas["Item"]) =>
  useChange((body: Schemas["Described"]) => data(api.PATCH("/api/drawers/{drawer}/items/{item}", { params: at(drawer, item), body })));
export const useDescribeIdentity = (subject: string) =>
  useChange((body: Schemas["IdentityChanges"]) => data(api.PATCH("/api/identities/{subject}", { params: { path: { subject } }, body })));
export const useOwned = (subject: string) =>
  useQuery({
    queryKey: ["owned", subject],
    queryFn: () => data(api.GET("/api/identities/{subject}/owned", { params: { path: { subject } } })),
  });

// A change makes everything that is shown be asked for again.
export function useChange<In, Out>(change: (input: In) => Promise<Out>) {
  const queries = useQueryClient();
  return useMutation({ mutationFn: change, onSuccess: () => queries.invalidateQueries() });
}

export const useSignIn = () =>
  useChange((body: { person: string; password: string }) => data(api.POST("/api/sign-in", { body: { ...body, session: "cookie" } })));
export const useEnrol = () =>
  useChange((body: { code: string; password: string }) => data(api.POST("/api/enrol", { body: { ...body, session: "cookie" } })));
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
  useChange((body: Schemas["Act"]) =>
    data(api.POST("/api/drawers/{drawer}/items/{item}/acts", { params: { path: { drawer, item } }, body })),
  );

export const useSetWindow = (drawer: string, item: string) =>
  useChange((body: Schemas["NewWindow"]) =>
    data(api.PUT("/api/drawers/{drawer}/items/{item}/window", { params: { path: { drawer, item } }, body })),
  );

// Trying rules changes nothing, so nothing is asked for again.
const rulesOf = (drawer: Schemas["Drawer"]) => (body: Schemas["NewRules"]) =>
  data(
    api.PUT("/api/drawers/{drawer}/rules", {
      params: { path: { drawer: drawer.name }, header: { "If-Match": `"r${drawer.revision}"` } },
      body,
    }),
  );
export const useTryRules = (drawer: Schemas["Drawer"]) => useMutation({ mutationFn: rulesOf(drawer) });
export const useSetRules = (drawer: Schemas["Drawer"]) => useChange(rulesOf(drawer));
type Import = Schemas["NewImport"];
export const useImport = (drawer: string) =>
  useChange((body: Import) => data(api.POST("/api/drawers/{drawer}/import", { params: { path: { drawer } }, body })));
export const useExport = (drawer: string) =>
  useMutation({
    mutationFn: (body: Schemas["NewExport"]) => data(api.POST("/api/drawers/{drawer}/export", { params: { path: { drawer } }, body })),
  });
export const useMove = (drawer: string, item: string) =>
  useChange((body: Schemas["NewPlace"]) =>
    data(api.POST("/api/drawers/{drawer}/items/{item}/move", { params: { path: { drawer, item } }, body })),
  );
export const useEndAlias = () =>
  useChange((reference: string) => {
    const [drawer = "", item = ""] = reference.split("/");
    return data(api.DELETE("/api/drawers/{drawer}/aliases/{item}", { params: { path: { drawer, item } } }));
  });
export const useRotateKey = (drawer: string) =>
  useChange((body?: { master_key: string }) => data(api.POST("/api/drawers/{drawer}/key", { params: { path: { drawer } }, body })));
export const useShredDrawer = (drawer: string) =>
  useChange((name: string) => data(api.POST("/api/drawers/{drawer}/shred", { params: { path: { drawer } }, body: { name } })));
const at = (drawer: string, item: Schemas["Item"]) => ({
  path: { drawer, item: item.name },
  header: { "If-Match": `"r${item.revision}"` },
});
export const useSetItemRules = (drawer: string, item: Schemas["Item"]) =>
  useChange((body: Schemas["NewItemRules"]) =>
    data(api.PUT("/api/drawers/{drawer}/items/{item}/rules", { params: at(drawer, item), body })),
  );
export const useUseOnly = (drawer: string, item: Schemas["Item"]) =>
  useChange(() => data(api.PATCH("/api/drawers/{drawer}/items/{item}", { params: at(drawer, item), body: { use_only: true } })));
export const useDecryptFrom = (drawer: string, item: Schemas["Item"]) =>
  useChange((from: number) =>
    data(api.PATCH("/api/drawers/{drawer}/items/{item}", { params: at(drawer, item), body: { decrypt_from: from } })),
  );
export const useNewCalendar = () => useChange((note: string) => data(api.POST("/api/calendars", { body: { note } })));
export const useEndCalendar = () =>
  useChange((calendar: string) => data(api.DELETE("/api/calendars/{calendar}", { params: { path: { calendar } } })));

export const useRegister = () => useChange((body: Schemas["NewIdentity"]) => data(api.POST("/api/identities", { body })));
export const useJoin = (subject: string) =>
  useChange((member: string) => data(api.PUT("/api/identities/{subject}/members/{member}", { params: { path: { subject, member } } })));
export const useLeave = (subject: string) =>
  useChange((member: string) => data(api.DELETE("/api/identities/{subject}/members/{member}", { params: { path: { subject, member } } })));
export const useHandOver = (subject: string) =>
  useChange((to: string) => data(api.POST("/api/identities/{subject}/hand-over", { params: { path: { subject } }, body: { to } })));
export const useSetState = (subject: string) =>
  useChange((state: "active" | "suspended") =>
    data(api.PATCH("/api/identities/{subject}", { params: { path: { subject } }, body: { state } })),
  );
export const useConfirm = (subject: string) =>
  useChange(() => data(api.PATCH("/api/identities/{subject}", { params: { path: { subject } }, body: { confirmed: true } })));
export const useEndCredential = (subject: string) =>
  useChange((credential: string) =>
    data(api.DELETE("/api/identities/{subject}/credentials/{credential}", { params: { path: { subject, credential } } })),
  );
export const useIssueCredential = (subject: string) =>
  useChange((body: Schemas["NewCredential"]) =>
    data(api.POST("/api/identities/{subject}/credentials", { params: { path: { subject } }, body })),
  );

// Reports are asked from midnight, so that the same question has the same key.
export const daysAgo = (days: number) => `${new Date(Date.now() - days * 86_400_000).toISOString().slice(0, 10)}T00:00:00Z`;
