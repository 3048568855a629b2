import { useQuery } from "@tanstack/react-query";
import { api, data } from "./client";
import { useChange } from "./queries";

// What is one's own: the password, and where one is signed in.

export const useChangePassword = () =>
  useChange((body: { password: string; new_password: string }) =>
    data(api.POST("/api/me/password", { body: { ...body, session: "cookie" } })),
  );
export const useSessions = () => useQuery({ queryKey: ["sessions"], queryFn: () => data(api.GET("/api/me/sessions")) });
export const useEndSession = () =>
  useChange((session: string) => data(api.DELETE("/api/me/sessions/{session}", { params: { path: { session } } })));
