import { useState } from "react";
import { Link } from "react-router";
import type { Endpoint, Overview as Seen } from "../api/client";
import { useAlerts, useOverview } from "../api/queries";
import { Card, Snippets, Trouble, Waiting } from "../parts/basics";
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
  if (overview.error && !overview.data) return <Trouble error={overview.error} again={() => void overview.refetch()} />;
  const seen = overview.data;
  return (
    <>
      <h1 className="text-title font-semibold">Endpoints</h1>
      {seen ? <p className="mt-1 text-lead text-soft">{sentence(seen)}</p> : <p className="mt-1 text-lead">&nbsp;</p>}
      <NeedsLook alerts={alerts.data?.filter((one) => one.state !== "resolved") ?? []} />
      <div className="mt-6">
        {!seen ? (
          <Waiting height={160} label="loading endpoints" />
        ) : seen.endpoints ? (
          <Now seen={seen} search={search} onSearch={setSearch} />
        ) : (
          <Empty />
        )}
      </div>
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
      {shown.length ? <Table all={shown} /> : <p className="text-soft">No endpoint has that in its name, or in what it serves.</p>}
      {shown.length < seen.found && (
        <p className="mt-3 text-soft">
          {count(shown.length)} of {count(seen.found)}: first those that need a look, then those that were called most.
        </p>
      )}
    </Card>
  );
}

function Table({ all }: { all: Endpoint[] }) {
  return (
    <table className="figures w-full">
      <thead>
        <tr>
          <th>endpoint</th>
          <th>state</th>
          <th className="w-full">serves</th>
          <th>since</th>
          <th className="num">calls in 1 h</th>
          <th className="num">refused</th>
          <th className="num">failed</th>
          <th className="num">p50 ms</th>
          <th className="num">p99 ms</th>
          <th className="num">right</th>
          <th>like training</th>
        </tr>
      </thead>
      <tbody>
        {all.map((one) => (
          <tr key={one.name} className="relative hover:bg-sunk">
            <td>
              <span className="inline-flex items-center gap-3 pl-1">
                <Lamp state={one.state} />
                <Link to={`/endpoints/${one.name}`} className="font-semibold after:absolute after:inset-0">
                  {one.name}
                </Link>
              </span>
            </td>
            <td className="text-soft">{one.state}</td>
            <td>
              <span className="relative z-10">
                <Serves summary={one.summary} live />
              </span>
            </td>
            <td className="text-soft">{ago(one.since)}</td>
            <td className="num">{count(one.last_hour.calls)}</td>
            <td className="num">{count(one.last_hour.refused)}</td>
            <td className={`num ${one.last_hour.failed ? "font-semibold text-brick" : ""}`}>{count(one.last_hour.failed)}</td>
            <td className="num">{ms(one.last_hour.p50_ms)}</td>
            <td className="num">{ms(one.last_hour.p99_ms)}</td>
            <td
              className="num"
              title={
                one.monitoring.quality
                  ? `${count(one.monitoring.quality.right)} of ${count(one.monitoring.quality.of)} known answers of the last 30 days`
                  : "no truth is told yet"
              }
            >
              {one.monitoring.quality ? percent(one.monitoring.quality.right / one.monitoring.quality.of) : "–"}
            </td>
            <td title={one.monitoring.drift_summary ?? undefined}>
              <Link to={`/endpoints/${one.name}/drift`} className="relative z-10">
                <Verdict state={one.monitoring.drift} />
              </Link>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

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
