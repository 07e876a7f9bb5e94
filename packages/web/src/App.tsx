import { useQuery, useQueryClient } from "@tanstack/react-query";
import { lazy, Suspense, useEffect } from "react";
import { Navigate, Route, Routes, useLocation } from "react-router";
import { SignedIn } from "./account/me.ts";
import { queries } from "./api/queries.ts";
import { Boundary } from "./parts/Boundary.tsx";
import { Shell } from "./parts/Shell.tsx";
import { ErrorNote } from "./parts/words.tsx";

const DocsPage = lazy(() => import("./docs/DocsPage.tsx"));
const Door = lazy(() => import("./account/Door.tsx"));
const TakenPage = lazy(() => import("./files/TakenPage.tsx"));
const HistoryPage = lazy(() => import("./history/HistoryPage.tsx"));
const LifelinePage = lazy(() => import("./history/LifelinePage.tsx"));
const LedgerPage = lazy(() => import("./ledger/LedgerPage.tsx"));
const PipelinesPage = lazy(() => import("./pipelines/PipelinesPage.tsx"));
const NewPipelinePage = lazy(() => import("./pipelines/NewPipelinePage.tsx"));
const PipelinePage = lazy(() => import("./pipeline/PipelinePage.tsx"));
const RejectedPage = lazy(() => import("./rejected/RejectedPage.tsx"));
const RunsPage = lazy(() => import("./runs/RunsPage.tsx"));
const RunPage = lazy(() => import("./runs/RunPage.tsx"));
const ProofsPage = lazy(() => import("./proofs/ProofsPage.tsx"));
const ProofPage = lazy(() => import("./proofs/ProofPage.tsx"));
const WarehousePage = lazy(() => import("./warehouse/WarehousePage.tsx"));
const ConnectionsPage = lazy(() => import("./connections/ConnectionsPage.tsx"));
const ConnectionPage = lazy(() => import("./connections/ConnectionPage.tsx"));
const UsersPage = lazy(() => import("./account/UsersPage.tsx"));
const SchedulesPage = lazy(() => import("./schedules/SchedulesPage.tsx"));
const BackfillPage = lazy(() => import("./backfill/BackfillPage.tsx"));
const MessagesPage = lazy(() => import("./messages/MessagesPage.tsx"));
const DeliveryPage = lazy(() => import("./messages/DeliveryPage.tsx"));
const ArrivedPage = lazy(() => import("./messages/ArrivedPage.tsx"));
const WorkersPage = lazy(() => import("./workers/WorkersPage.tsx"));
const VersionsPage = lazy(() => import("./versions/VersionsPage.tsx"));
const TokensPage = lazy(() => import("./account/TokensPage.tsx"));

function Missing() {
  const { pathname } = useLocation();
  return (
    <main className="page">
      <h1>There is no page {pathname}</h1>
      <p className="quiet">The strip above leads to what there is; / finds anything by name.</p>
    </main>
  );
}

export function App() {
  const client = useQueryClient();
  const { pathname } = useLocation();
  const me = useQuery(queries.me());
  useEffect(() => {
    const left = () => client.invalidateQueries(queries.me());
    window.addEventListener("signed-out", left);
    return () => window.removeEventListener("signed-out", left);
  }, [client]);
  if (me.error)
    return (
      <div className="door">
        <ErrorNote error={me.error} />
      </div>
    );
  if (!me.data) return null;
  if (!me.data.user || location.pathname === "/link")
    return (
      <Suspense fallback={null}>
        <Door needsSetup={me.data.needsSetup} />
      </Suspense>
    );
  return (
    <SignedIn value={{ ...me.data, user: me.data.user }}>
      <Shell>
        <Boundary place={pathname}>
          <Suspense fallback={<main className="page" />}>
            <Routes>
              <Route path="/" element={<LedgerPage />} />
              <Route path="/pipelines" element={<PipelinesPage />} />
              <Route path="/pipelines/new" element={<NewPipelinePage />} />
              <Route path="/schedules" element={<SchedulesPage />} />
              <Route path="/workers" element={<WorkersPage />} />
              <Route path="/messages" element={<MessagesPage />} />
              <Route path="/deliveries/:id" element={<DeliveryPage />} />
              <Route path="/arrived" element={<ArrivedPage />} />
              <Route path="/backfills/:id" element={<BackfillPage />} />
              <Route path="/files/:pipeline/:load" element={<TakenPage />} />
              <Route path="/versions/:name" element={<VersionsPage />} />
              <Route path="/pipelines/:name/:load?" element={<PipelinePage />} />
              <Route path="/rejected" element={<RejectedPage />} />
              <Route path="/runs" element={<RunsPage />} />
              <Route path="/runs/:id" element={<RunPage />} />
              <Route path="/proofs" element={<ProofsPage />} />
              <Route path="/proofs/:id" element={<ProofPage />} />
              <Route path="/warehouse" element={<WarehousePage />} />
              <Route path="/warehouse/:connection/:target" element={<HistoryPage />} />
              <Route path="/warehouse/:connection/:target/lifeline" element={<LifelinePage />} />
              <Route path="/connections" element={<ConnectionsPage />} />
              <Route path="/connections/:name" element={<ConnectionPage />} />
              <Route path="/users" element={<UsersPage />} />
              <Route path="/docs/:paper?" element={<DocsPage />} />
              <Route path="/tokens" element={<TokensPage />} />
              <Route path="/link" element={<Navigate to="/" replace />} />
              <Route path="*" element={<Missing />} />
            </Routes>
          </Suspense>
        </Boundary>
      </Shell>
    </SignedIn>
  );
}
