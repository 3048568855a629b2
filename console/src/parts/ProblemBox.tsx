import { ShieldX, TriangleAlert } from "lucide-react";
import { Link } from "react-router";
import { problemOf } from "../api/client";
import { AskFor } from "./AskFor";
import { Copy } from "./Copy";

// ProblemBox shows what the chest answered instead: a refusal with its receipt and remedy, or any other error.
export function ProblemBox({ error }: { error: unknown }) {
  const problem = problemOf(error);
  const Icon = problem.code === "refused" ? ShieldX : TriangleAlert;
  return (
    <div role="alert" className="border-error bg-base-200 rounded-box flex gap-4 border-l-4 p-5">
      <Icon className="text-error mt-1 size-6 shrink-0" aria-hidden />
      <div className="grid min-w-0 gap-2">
        <h2 className="text-lg font-semibold">{problem.title}</h2>
        <p className="name text-sm">{problem.detail}</p>
        {problem.receipt && (
          <p className="text-sm">
            Receipt{" "}
            <Link className="link name" to={`/receipts/${problem.receipt}`}>
              {problem.receipt}
            </Link>
            : give this to a gatekeeper, who can see why and fix it.
          </p>
        )}
        {problem.code === "refused" && problem.receipt && problem.reason !== "own_access" && problem.reason !== "steward_only" && (
          <AskFor receipt={problem.receipt} seconded={problem.reason === "approval_needed"} />
        )}
        {problem.remedy && (
          <p className="text-sm">
            The smallest grant that would allow it:
            <span className="mt-1 flex items-center gap-2">
              <code className="bg-base-300 rounded-field name px-2 py-1">{problem.remedy.command}</code>
              <Copy text={problem.remedy.command} what="the command" />
            </span>
          </p>
        )}
      </div>
    </div>
  );
}
