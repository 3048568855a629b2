import { useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect, useState } from "react";
import { Route, Routes, useLocation } from "react-router";
import { problemOf, showing, type Schemas } from "./api/client";
import { useMay, Viewer } from "./api/may";
import { useStatus } from "./api/operation";
import { useMe } from "./api/queries";
import { ChestPage } from "./pages/chest/ChestPage";
import { LockedOver, LockedPage } from "./pages/signin/LockedPage";
import { OtherSession } from "./pages/signin/OtherSession";
import { SignInAgain } from "./pages/signin/SignInAgain";
import { SignInPage } from "./pages/signin/SignInPage";
import { Frame } from "./parts/Frame";
import { Only } from "./parts/Only";
import { PageHead } from "./parts/PageHead";
import { Loading } from "./parts/States";

// Pages are fetched when they are first gone to; what is on every page comes first.
const AskPage = lazy(() => import("./pages/access/AskPage").then((m) => ({ default: m.AskPage })));
const AccessPage = lazy(() => import("./pages/access/AccessPage").then((m) => ({ default: m.AccessPage })));
const GrantsPage = lazy(() => import("./pages/access/GrantsPage").then((m) => ({ default: m.GrantsPage })));
const IdentityPage = lazy(() => import("./pages/access/IdentityPage").then((m) => ({ default: m.IdentityPage })));
const AccountPage = lazy(() => import("./pages/account/AccountPage").then((m) => ({ default: m.AccountPage })));
const MatrixPage = lazy(() => import("./pages/access/MatrixPage").then((m) => ({ default: m.MatrixPage })));
const PolicyPage = lazy(() => import("./pages/access/PolicyPage").then((m) => ({ default: m.PolicyPage })));
const RolesPage = lazy(() => import("./pages/access/RolesPage").then((m) => ({ default: m.RolesPage })));
const TightenPage = lazy(() => import("./pages/access/TightenPage").then((m) => ({ default: m.TightenPage })));
const DuePage = lazy(() => import("./pages/due/DuePage").then((m) => ({ default: m.DuePage })));
const DrawerPage = lazy(() => import("./pages/drawer/DrawerPage").then((m) => ({ default: m.DrawerPage })));
const ItemPage = lazy(() => import("./pages/item/ItemPage").then((m) => ({ default: m.ItemPage })));
const OperationPage = lazy(() => import("./pages/operation/OperationPage").then((m) => ({ default: m.OperationPage })));
const RefusalsPage = lazy(() => import("./pages/refusals/RefusalsPage").then((m) => ({ default: m.RefusalsPage })));
const SearchPage = lazy(() => import("./pages/search/SearchPage").then((m) => ({ default: m.SearchPage })));
const ReceiptPage = lazy(() => import("./pages/trail/ReceiptPage").then((m) => ({ default: m.ReceiptPage })));
const ExposurePage = lazy(() => import("./pages/item/ExposurePage").then((m) => ({ default: m.ExposurePage })));
const ActivityPage = lazy(() => import("./pages/trail/ActivityPage").then((m) => ({ default: m.ActivityPage })));
const EntryPage = lazy(() => import("./pages/trail/EntryPage").then((m) => ({ default: m.EntryPage })));
const UpkeepPage = lazy(() => import("./pages/trail/UpkeepPage").then((m) => ({ default: m.UpkeepPage })));
const VerifyPage = lazy(() => import("./pages/trail/VerifyPage").then((m) => ({ default: m.VerifyPage })));
const TrailPage = lazy(() => import("./pages/trail/TrailPage").then((m) => ({ default: m.TrailPage })));

// App decides between the three situations: locked, signed out, signed in.
export function App() {
  const status = useStatus();
  const me = useMe();
  const { ended, other } = useSessionEnd(Boolean(me.data));
  // Who was signed in last: while their session is renewed, the page stays under the sign-in, with what was typed on it.
  const [last, setLast] = useState(me.data);
  if (me.data && me.data !== last) setLast(me.data);
  const locked = status.data?.state === "locked" ? status.data : undefined;
  const shown = me.data ?? (ended || locked ? last : undefined);
  useEffect(() => showing(shown?.subject ?? ""), [shown?.subject]);
  if (locked && !shown) return <LockedPage status={locked} />;
  if (!shown && (status.isPending || me.isPending)) return <Loading what="the chest" />;
  if (!shown) return <SignInPage ended={ended} reachable={status.isSuccess} />;
  return (
    <Viewer value={shown}>
      <Frame me={shown} records={status.data?.records !== false}>
        <Pages me={shown} />
        {locked && <LockedOver status={locked} />}
        {other && <OtherSession subject={shown.subject} />}
        {!me.data && !locked && <SignInAgain person={shown.subject.replace("person:", "")} />}
      </Frame>
    </Viewer>
  );
}

// Pages are the addresses of the console, each for whoever may see what is on it.
function Pages({ me }: { me: Schemas["Me"] }) {
  const may = useMay();
  const { pathname } = useLocation(); // a page begins anew at each address: nothing that was asked about one thing is asked about the next
  const trail = may.somewhere("read_trail");
  const wholeTrail = may.everything("read_trail");
  return (
    <Suspense fallback={<Loading what="the page" />}>
      <Routes key={pathname}>
        <Route index element={<ChestPage me={me} />} />
        <Route path="drawers/:drawer" element={<DrawerPage />} />
        <Route path="drawers/:drawer/:item" element={<ItemPage />} />
        <Route path="due" element={<DuePage />} />
        <Route
          path="search"
          element={
            <Only when={may.somewhere("list")} what="what is in drawers" needs="viewer">
              <SearchPage />
            </Only>
          }
        />
        <Route path="access" element={<AccessPage me={me} />} />
        <Route path="access/:subject" element={<IdentityPage />} />
        <Route path="access/roles" element={<RolesPage />} />
        <Route path="access/grants" element={<GrantsPage />} />
        <Route path="access/ask" element={<AskPage />} />
        <Route path="drawers/:drawer/:item/exposure" element={<ExposurePage />} />
        <Route
          path="trail"
          element={
            <Only when={trail} what="the trail" needs="auditor">
              <TrailPage />
            </Only>
          }
        />
        <Route
          path="trail/verify"
          element={
            <Only when={wholeTrail} what="the whole trail" needs="auditor">
              <VerifyPage />
            </Only>
          }
        />
        <Route
          path="trail/upkeep"
          element={
            <Only when={wholeTrail} what="the whole trail" needs="auditor">
              <UpkeepPage />
            </Only>
          }
        />
        <Route
          path="trail/reads"
          element={
            <Only when={trail} what="the trail" needs="auditor">
              <ActivityPage />
            </Only>
          }
        />
        <Route
          path="trail/:seq"
          element={
            <Only when={trail} what="the trail" needs="auditor">
              <EntryPage />
            </Only>
          }
        />
        <Route path="refusals" element={<RefusalsPage me={me} />} />
        <Route
          path="access/matrix"
          element={
            <Only when={may.seesIdentities} what="who reaches what" needs="auditor">
              <MatrixPage />
            </Only>
          }
        />
        <Route
          path="access/tighten"
          element={
            <Only when={may.everything("grant", "read_trail")} what="all access" needs="auditor">
              <TightenPage />
            </Only>
          }
        />
        <Route
          path="access/policy"
          element={
            <Only when={may.everything("grant", "read_trail")} what="all access" needs="auditor">
              <PolicyPage />
            </Only>
          }
        />
        <Route path="account" element={<AccountPage me={me} />} />
        <Route path="operation" element={<OperationPage me={me} />} />
        <Route path="receipts/:receipt" element={<ReceiptPage />} />
        <Route path="*" element={<PageHead title="There is no such page">Choose one above.</PageHead>} />
      </Routes>
    </Suspense>
  );
}

// useSessionEnd notices that a session that was there has ended, or that it is somebody else's now: an answer to any question or change
// says so. Either brings something up over the page.
function useSessionEnd(signedIn: boolean) {
  const queries = useQueryClient();
  const [ended, setEnded] = useState(false);
  const [other, setOther] = useState(false);
  useEffect(() => {
    if (!signedIn) return;
    const heard = (error: unknown) => {
      const code = error ? problemOf(error).code : "";
      if (code === "unauthenticated" && queries.getQueryData(["me"])) {
        setEnded(true);
        queries.setQueryData(["me"], null);
      }
      if (code === "other_session") setOther(true);
      if (code === "locked") void queries.invalidateQueries({ queryKey: ["status"] });
    };
    const questions = queries.getQueryCache().subscribe(({ query }) => heard(query.state.error));
    const changes = queries.getMutationCache().subscribe(({ mutation }) => heard(mutation?.state.error));
    return () => {
      questions();
      changes();
    };
  }, [queries, signedIn]);
  return { ended: ended && !signedIn, other };
}
