// A desk: a page of its own for people who only ask. It opens with a link, and shows nothing else of the service.
import { Suspense, useEffect, useState } from "react";
import { Link, Route, Routes, useParams } from "react-router";
import { api, good, ProblemError } from "../api/client";
import { Trouble, Waiting } from "../parts/basics";
import { CutTexts } from "../parts/Tip";
import { FilePage } from "./FilePage";
import { OneQuestion } from "./OneQuestion";
import { useDesk } from "./queries";
import { ResultPage } from "./ResultPage";

/** The link carries its secret behind the #, where no server and no log sees it. Returns why it opens nothing. */
export async function openDesk(endpoint: string): Promise<Error | null> {
  const link = /^#link=(.+)$/.exec(window.location.hash)?.[1];
  if (!link) return null;
  window.history.replaceState(null, "", window.location.pathname);
  try {
    good(await api.POST("/api/desk/{endpoint}/session", { params: { path: { endpoint } }, body: { link } }));
    return null;
  } catch (problem) {
    return problem as Error;
  }
}

export function DeskApp({ linkFailed }: { linkFailed: Error | null }) {
  return (
    <Routes>
      <Route path="/desk/:endpoint/*" element={<Desk linkFailed={linkFailed} />} />
    </Routes>
  );
}

function Desk({ linkFailed }: { linkFailed: Error | null }) {
  const { endpoint = "", "*": rest = "" } = useParams();
  const desk = useDesk(endpoint);
  const title = desk.data?.title;
  useEffect(() => {
    document.title = title ?? "Desk";
  }, [title]);
  if (linkFailed ?? (desk.error instanceof ProblemError && desk.error.status === 401)) return <NoEntry reason={linkFailed?.message} />;
  return (
    <div className="h-full overflow-y-auto">
      <main className="mx-auto max-w-[1080px] px-4 py-4 sm:px-6 sm:py-8">
        {desk.error ? (
          <Trouble error={desk.error} again={() => void desk.refetch()} />
        ) : !desk.data ? (
          <Waiting height={320} label="opening the desk" />
        ) : (
          <>
            <header>
              <h1 className="text-title font-semibold">{desk.data.title}</h1>
              {desk.data.introduction && (
                <p className="mt-1 max-w-[68ch] text-lead whitespace-pre-line text-soft">{desk.data.introduction}</p>
              )}
              {!desk.data.available && (
                <p role="alert" className="mt-3 rounded-card border border-brick bg-brick-wash p-3">
                  Nothing can be answered at the moment. Whoever runs the service sees it too; try again later.
                </p>
              )}
              {desk.data.takes_files && (
                <nav aria-label="how to ask" className="mt-4 flex gap-6 border-b border-line">
                  <Tab to={`/desk/${endpoint}`} text="One question" here={rest === ""} />
                  <Tab to={`/desk/${endpoint}/file`} text="A whole file" here={rest !== ""} />
                </nav>
              )}
            </header>
            <Suspense fallback={<Waiting height={320} label="loading" />}>
              <Routes>
                <Route index element={<OneQuestion endpoint={endpoint} desk={desk.data} />} />
                <Route path="file" element={<FilePage endpoint={endpoint} desk={desk.data} />} />
                <Route path="results/:name" element={<ResultPage endpoint={endpoint} desk={desk.data} />} />
              </Routes>
            </Suspense>
            {desk.data.use && (
              <footer className="mt-8 border-t border-line pt-3 text-small text-soft">
                <h2 className="font-semibold">What this may be used for</h2>
                <p className="mt-1 max-w-[80ch] whitespace-pre-line">{desk.data.use}</p>
              </footer>
            )}
          </>
        )}
      </main>
      <CutTexts />
    </div>
  );
}

/** here : whether the page, or one that was reached from it, is shown. */
function Tab({ to, text, here }: { to: string; text: string; here: boolean }) {
  return (
    <Link
      to={to}
      aria-current={here ? "page" : undefined}
      className={`flex h-10 items-center border-b-2 ${here ? "border-amber-fill font-semibold text-ink" : "border-transparent text-soft hover:text-ink"}`}
    >
      {text}
    </Link>
  );
}

function NoEntry({ reason }: { reason?: string }) {
  const [shown] = useState(reason ?? "This page opens with a link. Use the link that you were given, or ask for one.");
  return (
    <main className="mx-auto max-w-[480px] px-4 py-16">
      <h1 className="text-title font-semibold">The desk is closed here</h1>
      <p className="mt-2 text-lead text-soft">{shown}</p>
    </main>
  );
}
