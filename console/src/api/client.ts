import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

// One client, on the page's own origin; the session is a cookie that scripts cannot read.
export const api = createClient<paths>({ credentials: "same-origin" });

// Refusal carries a problem document through TanStack Query's error channel.
export class ProblemError extends Error {
  constructor(readonly problem: Problem) {
    super(problem.detail);
  }
}

const unreachable: Problem = {
  type: "about:blank",
  title: "No answer",
  status: 0,
  code: "internal",
  request_id: "",
  detail: "The chest does not answer. Is the service running?",
};

// data turns an answer into data or a thrown ProblemError.
export async function data<T>(answer: Promise<{ data?: T; error?: unknown; response: Response }>): Promise<T> {
  const { data, error, response } = await answer.catch(() => {
    throw new ProblemError(unreachable);
  });
  if (error !== undefined || !response.ok) {
    throw new ProblemError((error as Problem | undefined) ?? { ...unreachable, status: response.status });
  }
  return data as T;
}

export function problemOf(error: unknown): Problem {
  return error instanceof ProblemError ? error.problem : unreachable;
}
