import { Lock } from "lucide-react";
import { useState, type ReactNode } from "react";
import { AskDialog } from "../pages/refusals/AskDialog";
import { PageHead } from "./PageHead";

type OnlyProps = { when: boolean; what: string; needs: string; scope?: string; children: ReactNode };

// Only shows a page to whoever may see it, and tells others what it takes. Nothing is asked of the chest for them, so that nothing is
// refused.
export function Only({ when, children, ...closed }: OnlyProps) {
  if (when) return children;
  return (
    <>
      <PageHead title="You may not see this" />
      <Closed {...closed} />
    </>
  );
}

// Closed says what one may not see, what it takes, and lets one ask for it.
export function Closed({ what, needs, scope = "**" }: { what: string; needs: string; scope?: string }) {
  const [asking, setAsking] = useState(false);
  return (
    <div className="panel flex min-h-48 flex-col items-center justify-center gap-3 text-center">
      <Lock className="text-secondary size-8" aria-hidden />
      <p className="max-w-prose">
        You may not see {what}. It takes the role <b>{needs}</b>
        {scope === "**" ? (
          " on a part of the chest"
        ) : (
          <>
            {" "}
            on <span className="name">{scope}</span>
          </>
        )}
        .
      </p>
      <button type="button" className="btn btn-outline" onClick={() => setAsking(true)}>
        Request access …
      </button>
      {asking && <AskDialog scope={scope === "**" ? "" : scope} wants={needs} onClose={() => setAsking(false)} />}
    </div>
  );
}
