import { useQueryClient } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Route, Routes } from "react-router";
import { problemOf } from "./api/client";
import { useMe, useStatus } from "./api/queries";
import { AccessPage } from "./pages/access/AccessPage";
import { IdentityPage } from "./pages/access/IdentityPage";
import { AccountPage } from "./pages/account/AccountPage";
import { MatrixPage } from "./pages/access/MatrixPage";
import { PolicyPage } from "./pages/access/PolicyPage";
import { TightenPage } from "./pages/access/TightenPage";
import { ChestPage } from "./pages/chest/ChestPage";
import { DuePage } from "./pages/due/DuePage";
import { DrawerPage } from "./pages/drawer/DrawerPage";
import { ItemPage } from "./pages/item/ItemPage";
import { OperationPage } from "./pages/operation/OperationPage";
import { LockedPage } from "./pages/signin/LockedPage";
import { SignInPage } from "./pages/signin/SignInPage";
import { RefusalsPage } from "./pages/refusals/RefusalsPage";
import { SearchPage } from "./pages/search/SearchPage";
import { ReceiptPage } from "./pages/trail/ReceiptPage";
import { ExposurePage } from "./pages/item/ExposurePage";
import { ActivityPage } from "./pages/trail/ActivityPage";
import { EntryPage } from "./pages/trail/EntryPage";
import { UpkeepPage } from "./pages/trail/UpkeepPage";
import { VerifyPage } from "./pages/trail/VerifyPage";
import { TrailPage } from "./pages/trail/TrailPage";
import { Frame } from "./parts/Frame";
import { PageHead } from "./parts/PageHead";
import { Loading } from "./parts/States";

// App decides between the three situations: locked, signed out, signed in.
export function App() {
  const status = useStatus();
  const me = useMe();
  const ended = useSessionEnd(me.isSuccess);
  if (status.data?.state === "locked") return <LockedPage status={status.data} />;
  if (status.isPending || me.isPending) return <Loading what="the chest" />;
  if (!me.data) return <SignInPage ended={ended} reachable={status.isSuccess} />;
  return (
    <Frame me={me.data} records={status.data?.records !== false}>
      <Routes>
        <Route index element={<ChestPage />} />
        <Route path="drawers/:drawer" element={<DrawerPage />} />
        <Route path="drawers/:drawer/:item" element={<ItemPage />} />
        <Route path="due" element={<DuePage />} />
        <Route path="search" element={<SearchPage />} />
        <Route path="access" element={<AccessPage me={me.data} />} />
        <Route path="access/:subject" element={<IdentityPage />} />
        <Route path="drawers/:drawer/:item/exposure" element={<ExposurePage />} />
        <Route path="trail" element={<TrailPage />} />
        <Route path="trail/verify" element={<VerifyPage />} />
        <Route path="trail/upkeep" element={<UpkeepPage />} />
        <Route path="trail/reads" element={<ActivityPage />} />
        <Route path="trail/:seq" element={<EntryPage />} />
        <Route path="refusals" element={<RefusalsPage me={me.data} />} />
        <Route path="access/matrix" element={<MatrixPage />} />
        <Route path="access/tighten" element={<TightenPage />} />
        <Route path="access/policy" element={<PolicyPage />} />
        <Route path="account" element={<AccountPage me={me.data} />} />
        <Route path="operation" element={<OperationPage me={me.data} />} />
        <Route path="receipts/:receipt" element={<ReceiptPage />} />
        <Route path="*" element={<PageHead title="There is no such page">Choose one above.</PageHead>} />
      </Routes>
    </Frame>
  );
}

// useSessionEnd notices that a session that was there has ended: an answer to any query says so. It then asks who the
// caller is, which brings the sign-in page up over the same address.
function useSessionEnd(signedIn: boolean): boolean {
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    return queries.getQueryCache().subscribe(({ query }) => {
      const code = query.state.status === "error" ? problemOf(query.state.error).code : "";
      if (code === "unauthenticated" && queries.getQueryData(["me"])) {
        setEnded(true);
        queries.removeQueries({ predicate: (other) => other.queryKey[0] !== "status" && other.queryKey[0] !== "me" });
        void queries.resetQueries({ queryKey: ["me"] });
      }
      if (code === "locked") void queries.invalidateQueries({ queryKey: ["status"] });
    });
  }, [queries, signedIn]);
  return ended && !signedIn;
}
