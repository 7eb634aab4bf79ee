import { useState } from "react";
import { Link, Route, Routes } from "react-router";
import { ProblemError } from "./api/client";
import { useSession } from "./api/queries";
import { Trouble } from "./parts/basics";
import { Palette } from "./parts/Palette";
import { Street } from "./parts/Street";
import { AlertsPage } from "./pages/AlertsPage";
import { CallPage } from "./pages/CallPage";
import { ComparePage } from "./pages/ComparePage";
import { DocsPage } from "./pages/DocsPage";
import { EndpointPage } from "./pages/EndpointPage";
import { LanesPage } from "./pages/LanesPage";
import { Models } from "./pages/Models";
import { Overview } from "./pages/Overview";
import { ReviewsPage } from "./pages/ReviewsPage";
import { SignIn } from "./pages/SignIn";
import { DeclaredPage } from "./pages/DeclaredPage";
import { TokensPage } from "./pages/TokensPage";
import { TrailPage } from "./pages/TrailPage";
import { VersionPage } from "./pages/VersionPage";

export function App({ linkFailed }: { linkFailed: Error | null }) {
  const session = useSession();
  const [searching, setSearching] = useState(false);
  if (session.data)
    return (
      <div className="flex h-full min-w-[1024px]">
        <Street session={session.data} onSearch={() => setSearching(true)} />
        <main className="min-w-0 flex-1 overflow-y-auto">
          <div className="mx-auto max-w-[1360px] px-8 py-6">
            <Routes>
              <Route path="/" element={<Overview />} />
              <Route path="/endpoints/:endpoint/*" element={<EndpointPage />} />
              <Route path="/alerts" element={<AlertsPage />} />
              <Route path="/models" element={<Models />} />
              <Route path="/models/:model/:number" element={<VersionPage />} />
              <Route path="/compare" element={<ComparePage />} />
              <Route path="/lanes" element={<LanesPage />} />
              <Route path="/calls/:id" element={<CallPage />} />
              <Route path="/reviews" element={<ReviewsPage />} />
              <Route path="/declared" element={<DeclaredPage />} />
              <Route path="/trail" element={<TrailPage />} />
              <Route path="/docs" element={<DocsPage />} />
              <Route path="/tokens" element={<TokensPage />} />
              <Route path="*" element={<Lost />} />
            </Routes>
          </div>
        </main>
        <Palette open={searching} onOpenChange={setSearching} />
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
