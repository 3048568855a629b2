import type { Schemas } from "../../api/client";
import { Mark } from "../../parts/Mark";

// Answer is what a read would be told now; no value is opened for it.
export function Answer({ of: check }: { of: Schemas["Check"] | undefined }) {
  if (!check) return <span className="muted">not asked</span>;
  if (check.served)
    return (
      <>
        <Mark state="allowed" word={`version ${check.version}`} />
        {check.warning && <span className="block text-sm">{check.warning}</span>}
      </>
    );
  return (
    <>
      <Mark state="refused" word="no" />
      <span className="block text-sm">{check.detail}</span>
      {check.remedy && <code className="name block text-sm">{check.remedy.command}</code>}
    </>
  );
}
