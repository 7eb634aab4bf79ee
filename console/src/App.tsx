import { Suspense, useEffect, useState } from "react";
import { Link, Route, Routes, useLocation } from "react-router";
import { ProblemError } from "./api/client";
import { useSession } from "./api/queries";
import { Trouble, Waiting } from "./parts/basics";
import { lazyPage } from "./lazyPage";
import { Palette } from "./parts/Palette";
import { Street } from "./parts/Street";
import { CutTexts } from "./parts/Tip";
import { Overview } from "./pages/Overview";
import { SignIn } from "./pages/SignIn";
import { useZone } from "./time/zone";

const AlertsPage = lazyPage(() => import("./pages/AlertsPage"), "AlertsPage");
const BulkPage = lazyPage(() => import("./pages/BulkPage"), "BulkPage");
const BulkRunPage = lazyPage(() => import("./pages/BulkRunPage"), "BulkRunPage");
const CallPage = lazyPage(() => import("./pages/CallPage"), "CallPage");
const ComparePage = lazyPage(() => import("./pages/ComparePage"), "ComparePage");
const DocsPage = lazyPage(() => import("./pages/DocsPage"), "DocsPage");
const EndpointPage = lazyPage(() => import("./pages/EndpointPage"), "EndpointPage");
const LanesPage = lazyPage(() => import("./pages/LanesPage"), "LanesPage");
const Models = lazyPage(() => import("./pages/Models"), "Models");
const ReviewsPage = lazyPage(() => import("./pages/ReviewsPage"), "ReviewsPage");
const DeclaredPage = lazyPage(() => import("./pages/DeclaredPage"), "DeclaredPage");
const SweepPage = lazyPage(() => import("./pages/SweepPage"), "SweepPage");
const OutpostsPage = lazyPage(() => import("./pages/OutpostsPage"), "OutpostsPage");
const SweepsPage = lazyPage(() => import("./pages/SweepsPage"), "SweepsPage");
const TokensPage = lazyPage(() => import("./pages/TokensPage"), "TokensPage");
const LogsPage = lazyPage(() => import("./pages/LogsPage"), "LogsPage");
const TrailPage = lazyPage(() => import("./pages/TrailPage"), "TrailPage");
const VersionPage = lazyPage(() => import("./pages/VersionPage"), "VersionPage");

/** Load the scripts of the other pages while nobody waits for anything, so that none is waited for later. */
function loadPagesWhenIdle(): void {
  const load = (): void => [EndpointPage, AlertsPage, LanesPage, TrailPage, Models, VersionPage].forEach((page) => void page.load());
  if ("requestIdleCallback" in window) requestIdleCallback(load, { timeout: 4_000 });
  else setTimeout(load, 2_000);
}

export function App({ linkFailed }: { linkFailed: Error | null }) {
  const session = useSession();
  useZone(); // every time on the page is written anew when the zone changes
  const [searching, setSearching] = useState(false);
  const signedIn = session.data !== undefined;
  useEffect(() => {
    if (signedIn) loadPagesWhenIdle();
  }, [signedIn]);
  if (session.data)
    return (
      <div className="flex h-full max-lg:flex-col">
        <Street session={session.data} onSearch={() => setSearching(true)} />
        <main className="min-w-0 flex-1 overflow-y-auto">
          <div className="mx-auto max-w-[1360px] px-4 py-4 lg:px-8 lg:py-6">
            <Suspense fallback={<Waiting height={480} label="loading the page" />}>
              <PageTitle />
              <Routes>
                <Route path="/" element={<Overview />} />
                <Route path="/endpoints/:endpoint/*" element={<EndpointPage />} />
                <Route path="/alerts" element={<AlertsPage />} />
                <Route path="/models" element={<Models />} />
                <Route path="/models/:model/:number" element={<VersionPage />} />
                <Route path="/compare" element={<ComparePage />} />
                <Route path="/bulk" element={<BulkPage />} />
                <Route path="/bulk/:run" element={<BulkRunPage />} />
                <Route path="/lanes" element={<LanesPage />} />
                <Route path="/outposts" element={<OutpostsPage />} />
                <Route path="/sweeps" element={<SweepsPage />} />
                <Route path="/sweeps/:sweep" element={<SweepPage />} />
                <Route path="/calls/:id" element={<CallPage />} />
                <Route path="/reviews" element={<ReviewsPage />} />
                <Route path="/declared" element={<DeclaredPage />} />
                <Route path="/trail" element={<TrailPage />} />
                <Route path="/logs" element={<LogsPage />} />
                <Route path="/docs" element={<DocsPage />} />
                <Route path="/tokens" element={<TokensPage />} />
                <Route path="*" element={<Lost />} />
              </Routes>
            </Suspense>
          </div>
        </main>
        <Palette open={searching} onOpenChange={setSearching} />
        <CutTexts />
      </div>
    );
  if (session.error instanceof ProblemError && session.error.status === 401) return <SignIn failed={linkFailed} />;
  if (session.error)
    return (
      <main className="mx-auto max-w-[480px] px-4 py-16">
        <Trouble error={session.error} again={() => void session.refetch()} />
      </main>
    );
  return null;
}

const TITLES: Record<string, string> = {
  "": "Endpoints",
  alerts: "Alerts",
  models: "Models",
  compare: "Compare",
  bulk: "Bulk runs",
  lanes: "Lanes",
  outposts: "Outposts",
  sweeps: "Sweeps",
  calls: "Call",
  reviews: "Reviews",
  declared: "Declared document",
  trail: "Trail",
  logs: "Logs",
  docs: "Interface",
  tokens: "Tokens",
};

/** What the page is, in the document's title: "outage-risk, drift · Lamp Post". */
function PageTitle() {
  const [section = "", name, view] = useLocation().pathname.split("/").slice(1).map(decodeURIComponent);
  const named =
    section === "endpoints"
      ? [name, view]
      : section === "models" && name
        ? [view ? `${name}@${view}` : name]
        : (section === "bulk" || section === "sweeps") && name
          ? [name]
          : [TITLES[section] ?? "No such page"];
  const title = `${named.filter(Boolean).join(", ")} · Lamp Post`;
  useEffect(() => {
    document.title = title;
  }, [title]);
  return null;
}

function Lost() {
  return (
    <>
      <h1 className="text-title font-semibold">There is no such page</h1>
      <p className="mt-1 text-lead text-soft">
        Names change seldom and addresses never: look for it among the{" "}
        <Link to="/" className="underline">
          endpoints
        </Link>
        , or press <kbd className="font-mono">/</kbd>.
      </p>
    </>
  );
}
