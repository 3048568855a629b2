import { useState } from "react";
import { useMay } from "../../api/may";
import { useGrants } from "../../api/rights";
import { ChosenActs, useChosen } from "../../parts/Chosen";
import { GrantTable } from "../../parts/GrantTable";
import { PageHead } from "../../parts/PageHead";
import { ProblemBox } from "../../parts/ProblemBox";
import { Empty, Loading } from "../../parts/States";
import { GiveDialog } from "./GiveDialog";
import { Tabs } from "./Tabs";

// GrantsPage lists every grant that the viewer may know of.
export function GrantsPage() {
  const may = useMay();
  const grants = useGrants();
  const [past, setPast] = useState(false);
  const [giving, setGiving] = useState(false);
  const list = (grants.data?.grants ?? []).filter((g) => past || g.in_force);
  const chosen = useChosen(
    list
      .filter((g) => g.subject !== may.subject && g.in_force && (g.may_end || g.may_renew))
      .map((g) => ({
        id: g.id,
        subject: g.subject,
        about: `${g.effect === "deny" ? "denied " : ""}${g.role} on ${g.scope}`,
        end: g.not_after,
        denies: g.effect === "deny",
        mayEnd: Boolean(g.may_end),
        mayRenew: Boolean(g.may_renew),
      })),
  );
  return (
    <>
      <Tabs />
      <PageHead
        title="Grants"
        aside={
          may.somewhere("grant") && (
            <button type="button" className="btn btn-primary" onClick={() => setGiving(true)}>
              Give access …
            </button>
          )
        }
      >
        Who has which role, on what, and until when. You see the grants that you may know of.
      </PageHead>
      <div className="mb-3 flex flex-wrap items-center justify-between gap-3">
        <label className="flex items-center gap-2 text-sm print:hidden">
          <input type="checkbox" className="checkbox checkbox-sm" checked={past} onChange={(e) => setPast(e.target.checked)} /> Show ended
          grants too
        </label>
        <ChosenActs from={chosen} />
      </div>
      {grants.isPending && <Loading what="the grants" />}
      {grants.error && <ProblemBox error={grants.error} />}
      {grants.data && list.length === 0 && <Empty title="No grants">None that you may know of.</Empty>}
      {list.length > 0 && <GrantTable grants={list} ends={may.somewhere("grant")} chosen={chosen} />}
      {giving && <GiveDialog onClose={() => setGiving(false)} />}
    </>
  );
}
