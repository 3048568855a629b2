import { useQuery } from "@tanstack/react-query";
import { api, data, type Schemas } from "./client";
import { useChange } from "./queries";

export type MasterKey = Schemas["MasterKey"];

// Master keys: what drawers are under as well as under the root key.
export const useMasterKeys = (enabled = true) =>
  useQuery({ enabled, queryKey: ["master-keys"], queryFn: () => data(api.GET("/api/master-keys")) });
const at = (key: string) => ({ path: { key } });
export const useMasterKey = (key: string) =>
  useQuery({ queryKey: ["master-keys", key], queryFn: () => data(api.GET("/api/master-keys/{key}", { params: at(key) })) });
export const useMakeMasterKey = () => useChange((body: Schemas["NewMasterKey"]) => data(api.POST("/api/master-keys", { body })));
export const useChangeMasterKey = (key: MasterKey) =>
  useChange((body: Schemas["MasterKeyChanges"]) =>
    data(api.PATCH("/api/master-keys/{key}", { params: { ...at(key.id), header: { "If-Match": `"r${key.revision}"` } }, body })),
  );
export const useWithdrawMasterKey = (key: string) =>
  useChange((name: string) => data(api.POST("/api/master-keys/{key}/withdraw", { params: at(key), body: { name } })));
export const useGiveBackMasterKey = (key: string) =>
  useChange((body: Schemas["GivenBack"]) => data(api.POST("/api/master-keys/{key}/give-back", { params: at(key), body })));
export const useDestroyMasterKey = (key: string) =>
  useChange((name: string) => data(api.POST("/api/master-keys/{key}/destroy", { params: at(key), body: { name } })));
