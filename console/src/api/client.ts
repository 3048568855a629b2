import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Schemas = components["schemas"];
export type Problem = Schemas["Problem"];

// One client, on the page's own origin; the session is a cookie that scripts cannot read.
export const api = createClient<paths>({ credentials: "same-origin" });

// Each request says whom the page shows as signed in: all pages of a browser share one cookie, and nothing that is pressed on one is done
// as somebody who has signed in on another.
let person = "";
export const showing = (subject: string) => {
  person = subject;
};
export const pageOf = () => (person ? { "Tansu-Page-Of": person } : undefined);
api.use({
  onRequest({ request }) {
    if (person) request.headers.set("Tansu-Page-Of", person);
  },
});

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
