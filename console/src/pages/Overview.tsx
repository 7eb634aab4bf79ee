import { useState } from "react";
import { Link } from "react-router";
import type { Endpoint, Overview as Seen } from "../api/client";
import { useAlerts, useOverview } from "../api/queries";
import { Card, Snippets } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Term, Tip, Truncated } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { DeletedEndpoints } from "../parts/DeletedEndpoints";
import { Lamp } from "../parts/Lamp";
import { Serves } from "../parts/Serves";
import { Verdict } from "../parts/Verdict";
import { NeedsLook } from "./AlertsPage";
import { ago, count, ms, percent, plural } from "../words";

const MANY = 20;
const NAMED = 3;

/** What is served, and in which state is it? */
export function Overview() {
  const [search, setSearch] = useState("");
  const overview = useOverview(search.trim());
  const alerts = useAlerts();
  return (
    <>
      <h1 className="text-title font-semibold">
        <Term word="endpoint">Endpoints</Term>
      </h1>
      <p className="mt-1 text-lead text-soft">{overview.data ? sentence(overview.data) : "\u00a0"}</p>
      <NeedsLook alerts={alerts.data?.filter((endpoint) => endpoint.state !== "resolved") ?? []} />
      <div className="mt-6">
        <QueryState query={overview} loading="endpoints" height={160} isEmpty={(seen) => !seen.endpoints} empty={<Empty />}>
          {(seen) => <Now seen={seen} search={search} onSearch={setSearch} />}
        </QueryState>
      </div>
      <DeletedEndpoints />
    </>
  );
}

function sentence(seen: Seen): string {
  if (!seen.endpoints) return "Nothing is served yet.";
  const calls = plural(seen.calls, "call");
  const down = seen.states.down ?? 0;
  if (!down)
    return `${seen.endpoints === 1 ? "One endpoint" : plural(seen.endpoints, "endpoint")}, ${inStates(seen)}. ${calls} in the last hour.`;
  const named = seen.down.slice(0, NAMED).join(", ");
  const more = down > NAMED ? ` and ${count(down - NAMED)} more` : "";
  return `${named}${more} ${down === 1 ? "is" : "are"} down. ${calls} in the last hour.`;
}

/** How many endpoints are in each state: "all serving", or "4 serving, 2 asleep". */
function inStates(seen: Seen): string {
  const states = Object.entries(seen.states).filter(([, many]) => many > 0);
  if (states.length === 1) return seen.endpoints === 1 ? states[0]![0] : `all ${states[0]![0]}`;
  return states.map(([state, many]) => `${count(many)} ${state}`).join(", ");
}

function Now({ seen, search, onSearch }: { seen: Seen; search: string; onSearch: (words: string) => void }) {
  const shown = seen.shown;
  return (
    <Card
      title="Now"
      aside={
        seen.endpoints > MANY && (
          <input
            type="search"
            className="control w-56!"
            aria-label="search endpoints"
            placeholder="part of a name"
            spellCheck={false}
            value={search}
            onChange={(event) => onSearch(event.target.value)}
          />
        )
      }
    >
      {shown.length ? (
        <DataTable label="endpoints" columns={COLUMNS} rows={shown} rowKey={(endpoint) => endpoint.name} />
      ) : (
        <p className="text-soft">No endpoint has that in its name, or in what it serves.</p>
      )}
      {shown.length < seen.found && (
        <p className="mt-3 text-soft">
          {count(shown.length)} of {count(seen.found)}: first those that need a look, then those that were called most.
        </p>
      )}
    </Card>
  );
}

const COLUMNS: Column<Endpoint>[] = [
  {
    id: "endpoint",
    width: 220,
    value: (endpoint) => endpoint.name,
    cell: (endpoint) => (
      <span className="flex max-w-72 items-center gap-3 pl-1">
        <Lamp state={endpoint.state} />
        <Link to={`/endpoints/${endpoint.name}`} className="min-w-0 font-semibold after:absolute after:inset-0">
          <Truncated focusable={false}>{endpoint.name}</Truncated>
        </Link>
      </span>
    ),
  },
  { id: "state", width: 88, value: (endpoint) => endpoint.state, className: "text-soft" },
  {
    id: "serves",
    term: "version",
    grow: true,
    value: (endpoint) => endpoint.summary,
    cell: (endpoint) => (
      <span className="relative z-10">
        <Serves summary={endpoint.summary} live />
      </span>
    ),
  },
  { id: "since", width: 96, value: (endpoint) => endpoint.since, cell: (endpoint) => ago(endpoint.since), className: "text-soft" },
  { id: "calls in 1 h", numeric: true, value: (endpoint) => endpoint.last_hour.calls, cell: (endpoint) => count(endpoint.last_hour.calls) },
  { id: "refused", numeric: true, value: (endpoint) => endpoint.last_hour.refused, cell: (endpoint) => count(endpoint.last_hour.refused) },
  {
    id: "failed",
    numeric: true,
    value: (endpoint) => endpoint.last_hour.failed,
    cell: (endpoint) => count(endpoint.last_hour.failed),
    className: (endpoint) => (endpoint.last_hour.failed ? "font-semibold text-brick" : ""),
  },
  { id: "p50 ms", numeric: true, value: (endpoint) => endpoint.last_hour.p50_ms, cell: (endpoint) => ms(endpoint.last_hour.p50_ms) },
  {
    id: "p95 ms",
    numeric: true,
    hidden: true,
    value: (endpoint) => endpoint.last_hour.p95_ms,
    cell: (endpoint) => ms(endpoint.last_hour.p95_ms),
  },
  { id: "p99 ms", numeric: true, value: (endpoint) => endpoint.last_hour.p99_ms, cell: (endpoint) => ms(endpoint.last_hour.p99_ms) },
  {
    id: "right",
    term: "outcome",
    numeric: true,
    width: 72,
    value: (endpoint) => endpoint.monitoring.quality && endpoint.monitoring.quality.right / endpoint.monitoring.quality.of,
    cell: ({ monitoring: { quality } }) => (
      <Tip text={quality ? `${count(quality.right)} of ${count(quality.of)} known answers of the last 30 days` : "no outcome is known yet"}>
        <span className="relative z-10">{quality ? percent(quality.right / quality.of) : "–"}</span>
      </Tip>
    ),
  },
  {
    id: "like training",
    term: "reference",
    width: 112,
    value: (endpoint) => endpoint.monitoring.drift,
    cell: (endpoint) => (
      <Tip text={endpoint.monitoring.drift_summary}>
        <Link to={`/endpoints/${endpoint.name}/drift`} className="relative z-10">
          <Verdict state={endpoint.monitoring.drift} tip={false} />
        </Link>
      </Tip>
    ),
  },
];

function Empty() {
  const steps = [
    { name: "Python", text: 'import lamppost\n\nlamppost.pack(model, frame, name="outage-risk", target="failed")' },
    { name: "Command", text: "lamppost pack lamp.toml" },
  ];
  return (
    <Card title="Light the first lamp" className="max-w-[640px]">
      <p className="text-soft">Pack a fitted model with the frame it was trained on:</p>
      <Snippets all={steps} id="how to pack" />
      <p className="mt-4 text-soft">Then store it and point an endpoint at it; this page shows it at once:</p>
      <Snippets
        all={[{ name: "Command", text: "lamppost push outage-risk.lamp\nlamppost point outage-risk outage-risk@1" }]}
        id="how to serve"
      />
    </Card>
  );
}
