import { useQuery } from "@tanstack/react-query";
import { api, data } from "./client";

export const useKeyTypes = () => useQuery({ queryKey: ["key-types"], staleTime: Infinity, queryFn: () => data(api.GET("/api/key-types")) });

// Who uses a key is asked when somebody presses for it: the question is in the trail.
export const useKeyUsers = (drawer: string, item: string, enabled: boolean) =>
  useQuery({
    enabled,
    queryKey: ["key-users", drawer, item],
    queryFn: () => data(api.GET("/api/keys/{drawer}/{item}/users", { params: { path: { drawer, item } } })),
  });
