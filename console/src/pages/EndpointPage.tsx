import { Link, NavLink, Route, Routes, useParams, useSearchParams } from "react-router";
import type { EndpointPage as Page } from "../api/client";
import { useCalls, useEndpoint } from "../api/queries";
import { Ask } from "../parts/Ask";
import { useState, Suspense } from "react";
import { useMay } from "../api/queries";
import { Button, Card, Waiting } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Tip, Truncated } from "../parts/Tip";
import { ChangeServed, SharesCard } from "../parts/ChangeServed";
import { DeleteEndpoint } from "../parts/DeleteEndpoint";
import { GoBack } from "../parts/GoBack";
import { History } from "../parts/History";
import { OutpostRollouts } from "../parts/OutpostRollouts";
import { RolloutTrack } from "../parts/RolloutTrack";
import { Engine } from "../parts/Engine";
import { CallsTable } from "../parts/CallsTable";
import { Lamp } from "../parts/Lamp";
import { Serves, SetupCard } from "../parts/Serves";
import { Verdict } from "../parts/Verdict";
import { ago, clock, count, ms, plural } from "../words";
import { lazyPage } from "../lazyPage";
import { timeSearch } from "../time/spans";

const CallsView = lazyPage<{ page: Page }>(() => import("./CallsView"), "CallsView");
const DeskView = lazyPage<{ page: Page }>(() => import("./DeskView"), "DeskView");
const DriftView = lazyPage<{ page: Page }>(() => import("./DriftView"), "DriftView");
const OutcomesView = lazyPage<{ page: Page }>(() => import("./OutcomesView"), "OutcomesView");
const TrafficView = lazyPage<{ page: Page }>(() => import("./TrafficView"), "TrafficView");

/** One endpoint: does it serve, how well, and what does it say to this row? */
export function EndpointPage() {
  const { endpoint = "" } = useParams();
  const query = useEndpoint(endpoint);
  return (
    <QueryState query={query} loading={endpoint} height={480}>
      {(page) => (
        <>
          <Head page={page} />
          <GoingLoad page={page} />
          <Views endpoint={endpoint} page={page} />
          <Suspense fallback={<Waiting height={480} label="loading the view" />}>
            <Routes>
              <Route index element={<Serve page={page} />} />
              <Route path="traffic" element={<TrafficView page={page} />} />
              <Route path="drift" element={<DriftView page={page} />} />
              <Route path="outcomes" element={<OutcomesView page={page} />} />
              <Route path="calls" element={<CallsView page={page} />} />
              <Route path="desk" element={<DeskView page={page} />} />
            </Routes>
          </Suspense>
        </>
      )}
    </QueryState>
  );
}

const VIEWS = [
  { to: "", name: "Serve" },
  { to: "traffic", name: "Traffic" },
  { to: "drift", name: "Drift" },
  { to: "outcomes", name: "Outcomes" },
  { to: "calls", name: "Calls" },
  { to: "desk", name: "Desk" },
];

function Views({ endpoint, page }: { endpoint: string; page: Page }) {
  const [params] = useSearchParams();
  return (
    <nav className="mt-4 flex items-center gap-6 overflow-x-auto border-b border-line whitespace-nowrap" aria-label="views">
      {VIEWS.map(({ to, name }) => (
        <NavLink
          key={name}
          to={{ pathname: `/endpoints/${endpoint}${to && `/${to}`}`, search: timeSearch(params) }}
          end
          className={({ isActive }) =>
            `-mb-px flex h-10 items-center gap-2 border-b-2 ${isActive ? "border-amber-fill font-semibold" : "border-transparent text-soft hover:text-ink"}`
          }
        >
          {name}
          {name === "Drift" && page.monitoring.drift && page.monitoring.drift !== "too few" && (
            <Verdict state={page.monitoring.drift} word={false} />
          )}
        </NavLink>
      ))}
      <a
        href={`/api/endpoints/${endpoint}/report?period=week`}
        target="_blank"
        rel="noreferrer"
        className="ml-auto text-small text-soft underline hover:text-ink"
      >
        report of the week
      </a>
      <a
        href={`/api/endpoints/${endpoint}/report?period=week&form=pdf`}
        target="_blank"
        rel="noreferrer"
        className="text-small text-soft underline hover:text-ink"
      >
        as PDF
      </a>
    </nav>
  );
}

/** What it serves, and a row to try it with. */
function Serve({ page }: { page: Page }) {
  return (
    <>
      <RolloutTrack page={page} />
      <OutpostRollouts endpoint={page.name} />
      <SharesCard page={page} />
      {/* a new version may have other fields: the form starts anew */}
      <Ask key={`${page.name} ${page.revision}`} page={page} />
      <SetupCard endpoint={page.name} setup={page.setup} />
      <Engine page={page} />
      <Calls endpoint={page.name} />
      <History page={page} />
      <DeleteEndpoint page={page} />
    </>
  );
}

/** A load that goes on: its calls are no traffic, and live calls may be slower meanwhile. */
function GoingLoad({ page }: { page: Page }) {
  const { load } = page;
  if (!load) return null;
  return (
    <p role="status" className="mt-3 rounded-small border border-amber bg-amber-wash px-3 py-2">
      The load <span className="font-mono">{load.name}</span> of {load.made_by} goes on here, until {clock(load.ends_at)} at the latest. Its
      calls are left out of traffic, drift, quality and objectives; live calls may be slower meanwhile.
    </p>
  );
}

function Head({ page }: { page: Page }) {
  const hour = page.last_hour;
  const [changing, setChanging] = useState(false);
  const may = useMay("point");
  const going = page.rollout && !page.rollout.ended_at;
  const figures = [
    ["calls in 1 h", count(hour.calls)],
    ["refused", count(hour.refused)],
    ["failed", count(hour.failed)],
    ["p50 ms", ms(hour.p50_ms)],
    ["p95 ms", ms(hour.p95_ms)],
    ["p99 ms", ms(hour.p99_ms)],
  ] as const;
  return (
    <header>
      <div className="flex items-end justify-between gap-8 max-lg:flex-col max-lg:items-start max-lg:gap-2">
        <h1 className="flex min-w-0 items-center gap-3 text-title font-semibold">
          <Lamp state={page.state} large /> <Truncated>{page.name}</Truncated>
        </h1>
        <dl className="flex shrink-0 flex-wrap gap-x-6 gap-y-1" aria-label="last hour">
          {figures.map(([name, value]) => (
            <div key={name} className="text-right">
              <dt className="text-small text-faint">{name}</dt>
              <dd className={`text-lead font-semibold ${name === "failed" && hour.failed ? "text-brick" : ""}`}>{value}</dd>
            </div>
          ))}
        </dl>
      </div>
      <div className="mt-1 flex items-start justify-between gap-6 max-lg:flex-col max-lg:gap-3">
        <p className="text-lead text-soft">
          <Sentence page={page} />
        </p>
        <span className="flex shrink-0 flex-wrap gap-3">
          {may && (
            <Tip text={going ? "A rollout goes on; finish it or take it back first." : null}>
              <span>
                <Button disabled={Boolean(going)} onClick={() => setChanging(!changing)}>
                  {changing ? "Leave it" : "Serve another version"}
                </Button>
              </span>
            </Tip>
          )}
          <GoBack page={page} />
        </span>
      </div>
      {page.monitoring.alerts > 0 && (
        <p className="mt-2 rounded-small border border-brick bg-brick-wash px-3 py-2">
          <Link to="/alerts" className="font-semibold text-brick underline">
            {plural(page.monitoring.alerts, "alert")}
          </Link>{" "}
          {page.monitoring.alert_summary}
        </p>
      )}
      {changing && <ChangeServed page={page} onDone={() => setChanging(false)} />}
    </header>
  );
}

const STATE_SENTENCES = {
  serving: "Serving. ",
  degraded: "Degraded: ",
  asleep: "Asleep: its next request opens it. ",
  opening: "It is being opened. ",
} as const satisfies Record<Exclude<Page["state"], "down">, string>;

function Sentence({ page }: { page: Page }) {
  const version = <Serves summary={page.summary} live />;
  if (page.state === "down")
    return (
      <span>
        <span className="text-brick">Down.</span> {version} cannot answer: {page.reasons.join("; ")}.
      </span>
    );
  return (
    <span>
      {STATE_SENTENCES[page.state]}
      {page.state === "degraded" && `${page.reasons.join("; ")}. `}
      {page.last_hour.calls ? `${plural(page.last_hour.calls, "call")} in the last hour, ` : "No calls in the last hour, "}
      {page.last_hour.failed ? `${count(page.last_hour.failed)} failed, ` : page.last_hour.calls ? "none failed, " : ""}
      served by {version} since {ago(page.since)}.
    </span>
  );
}

function Calls({ endpoint }: { endpoint: string }) {
  const calls = useCalls(endpoint);
  return (
    <Card
      title="Last calls"
      className="mt-4"
      aside={
        <Link to={`/endpoints/${endpoint}/calls`} className="text-small text-soft underline hover:text-ink">
          search all calls
        </Link>
      }
    >
      <QueryState
        query={calls}
        loading="calls"
        height={96}
        isEmpty={(all) => !all.length}
        empty={<p className="text-soft">No call yet. Press Ask above, or copy one of the calls beside it.</p>}
      >
        {(all) => <CallsTable calls={all} />}
      </QueryState>
    </Card>
  );
}
