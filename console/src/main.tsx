import { MutationCache, QueryCache, QueryClient, QueryClientProvider } from "@tanstack/react-query";
import { Tooltip } from "radix-ui";
import { type ReactNode, StrictMode } from "react";
import { createRoot } from "react-dom/client";
import { BrowserRouter } from "react-router";
import { api, BASE, good, ProblemError } from "./api/client";
import { Toasts } from "./parts/Toasts";
import "./styles.css";
import { startTheme } from "./theme";

startTheme();

/** A one-time link carries its secret behind the #, where no server and no log sees it. */
async function signInByLink(): Promise<Error | null> {
  const link = /^#link=(.+)$/.exec(window.location.hash)?.[1];
  if (!link) return null;
  window.history.replaceState(null, "", window.location.pathname);
  try {
    good(await api.POST("/api/session", { body: { link } }));
    return null;
  } catch (problem) {
    return problem as Error;
  }
}

/** A session that ended brings back the sign-in page, wherever it was noticed. */
function onError(error: Error, key?: unknown): void {
  if (error instanceof ProblemError && error.status === 401 && key !== "session") void queries.resetQueries({ queryKey: ["session"] });
}

const queries: QueryClient = new QueryClient({
  defaultOptions: { queries: { retry: 1, refetchOnWindowFocus: false } },
  queryCache: new QueryCache({ onError: (error, query) => onError(error, query.queryKey[0]) }),
  mutationCache: new MutationCache({ onError: (error) => onError(error) }),
});

// a link that is opened where the console is open already changes only what stands behind the #
window.addEventListener("hashchange", () => {
  if (window.location.hash.startsWith("#link=")) window.location.reload();
});

/** A desk is a page of its own: who only asks there loads nothing of the console. */
async function page(): Promise<ReactNode> {
  const desk = /^\/desk\/([^/]+)/.exec(window.location.pathname.slice(BASE.length))?.[1];
  if (desk === undefined) {
    const [{ App }, linkFailed] = await Promise.all([import("./App"), signInByLink()]);
    return <App linkFailed={linkFailed} />;
  }
  const { DeskApp, openDesk } = await import("./desk/DeskApp");
  return <DeskApp linkFailed={await openDesk(decodeURIComponent(desk))} />;
}

const shown = await page();
createRoot(document.getElementById("root")!).render(
  <StrictMode>
    <QueryClientProvider client={queries}>
      <BrowserRouter basename={BASE}>
        <Tooltip.Provider delayDuration={250}>
          <Toasts>{shown}</Toasts>
        </Tooltip.Provider>
      </BrowserRouter>
    </QueryClientProvider>
  </StrictMode>,
);
