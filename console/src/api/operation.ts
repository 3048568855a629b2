import { useMutation, useQuery } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";
import { useChange } from "./queries";

// The chest as a whole: what opens it, and what brings it back.
export const useStatus = () => useQuery({ queryKey: ["status"], queryFn: () => data(api.GET("/api/status")), refetchInterval: 15_000 });
export const useLock = () => useChange(() => data(api.POST("/api/lock")));
export const useExamine = () => useMutation({ mutationFn: () => data(api.POST("/api/examine")) });
export const useUnlock = () => useChange((body: Schemas["Unlock"]) => data(api.POST("/api/unlock", { body })));
export const useUnlockMethods = () => useQuery({ queryKey: ["unlock-methods"], queryFn: () => data(api.GET("/api/unlock-methods")) });
export const useAddUnlockMethod = () => useChange((body: Schemas["NewUnlockMethod"]) => data(api.POST("/api/unlock-methods", { body })));
export const useEndUnlockMethod = () =>
  useChange(({ method, current }: { method: string; current: string }) =>
    data(api.POST("/api/unlock-methods/{method}/end", { params: { path: { method } }, body: { current } })),
  );
export const useRotateRootKey = () => useChange((current: string) => data(api.POST("/api/root-key/rotate", { body: { current } })));
export const useShares = () => useQuery({ queryKey: ["shares"], queryFn: () => data(api.GET("/api/me/shares")) });
// What is taken is shown once and kept in no query: its answer is the mutation's, and goes with the page.
export const useTakeShare = () =>
  useChange((share: string) => data(api.POST("/api/me/shares/{share}/take", { params: { path: { share } } })));
export const useBackups = () => useQuery({ queryKey: ["backups"], queryFn: () => data(api.GET("/api/backups")) });
export const useBackUp = () => useChange((full: boolean) => data(api.POST("/api/backups", { body: { full } })));
export const useRehearse = () => useChange((number: number) => data(api.POST("/api/backups/rehearse", { body: { number } })));
