import { useState } from "react";
import type { Schemas } from "../../api/client";
import type { useMayThere } from "../../api/may";
import { useAskFor } from "../../api/rights";
import { ReasonDialog } from "../../parts/ReasonDialog";
import { AskDialog } from "../refusals/AskDialog";
import { Reveal } from "./Reveal";

type ValueProps = { target: string; item?: Schemas["Item"]; there: ReturnType<typeof useMayThere> };

// Value is where an item's value can be revealed by whoever may read it, while it is served. Others are told why not.
export function Value({ target, item, there }: ValueProps) {
  if (item && stays(item)) return null; // the page says so
  if (there.useOnly) {
    return (
      <p className="panel">
        <b>Value.</b> It is shown to no person.
      </p>
    );
  }
  if (!there.reads) return <NoValue target={target} there={there} />;
  if (item && !["usable", "due", "grace"].includes(item.state)) return null; // its state says why
  return <Reveal key={item?.current} reference={target} version={item?.current} needsReason={there.needsReason("read_value")} />;
}

// stays reports whether an item's value is shown to nobody, or is all on the page.
const stays = ({ use_only, key, kind }: Schemas["Item"]) =>
  use_only || (key && !key.given_out) || kind === "authority" || kind === "profile";

// NoValue stands where the value would be for whoever may not read it, or not yet: it says why, and what would change that.
function NoValue({ target, there }: ValueProps) {
  const [asking, setAsking] = useState(false);
  const ask = useAskFor();
  const close = () => setAsking(false);
  const seconded = there.needsApproval("read_value");
  const unmet = there.unmet("read_value");
  return (
    <section className="panel flex flex-wrap items-center justify-between gap-3" aria-label="Value">
      {seconded ? (
        <p>
          <b>Value.</b> You may read it once a second person agrees: the drawer's rules ask for that.
        </p>
      ) : unmet ? (
        <p>
          <b>Value.</b> Your grant does not apply now: {unmet}.
        </p>
      ) : (
        <p>
          <b>Value.</b> You may not read it: that takes the role <b>consumer</b> on <span className="name">{target}</span>.
        </p>
      )}
      {there.requested ? (
        <p role="status" className="text-sm">
          Request <span className="name">{there.requested}</span> is open. The answer appears under Requests.
        </p>
      ) : (
        <button type="button" className="btn btn-outline btn-sm" onClick={() => setAsking(true)}>
          {seconded ? "Request approval …" : "Request access …"}
        </button>
      )}
      {asking && seconded && (
        <ReasonDialog
          title={`Request approval to read ${target}`}
          label="Why do you need it?"
          hint="Whoever answers reads this. A yes lasts an hour, unless they choose otherwise."
          action="Send the request"
          busy={ask.isPending}
          error={ask.error}
          onSay={(reason) => ask.mutate({ read: target, reason }, { onSuccess: close })}
          onClose={close}
        />
      )}
      {asking && !seconded && <AskDialog scope={target} wants="consumer" onClose={close} />}
    </section>
  );
}
