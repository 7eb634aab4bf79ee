import { useState } from "react";
import { Link } from "react-router";
import type { Endpoint, Overview as Seen } from "../api/client";
import { useAlerts, useOverview } from "../api/queries";
import { Card, Snippets, Trouble, Waiting } from "../parts/basics";
import { Lamp, lampOf } from "../parts/Lamp";
import { Serves } from "../parts/Serves";
import { Verdict } from "../parts/Verdict";
import { NeedsLook } from "./AlertsPage";
import { ago, count, ms, percent, plural } from "../words";

const MANY = 20;
const NAMED = 3;

/** What is served, and is it lit? */
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
        {!seen ? <Waiting height={160} label="loading endpoints" /> : seen.endpoints ? <Now seen={seen} search={search} onSearch={setSearch} /> : <Empty />}
      </div>
    </>
  );
}

function sentence(seen: Seen): string {
  if (!seen.endpoints) return "Nothing is served yet.";
  const calls = plural(seen.calls, "call");
  if (!seen.outs) {
    const lit = seen.flickering ? `${count(seen.flickering)} flickering` : seen.endpoints === 1 ? "and it is lit" : "all lit";
    return `${seen.endpoints === 1 ? "One endpoint" : plural(seen.endpoints, "endpoint")}, ${lit}. ${calls} in the last hour.`;
  }
  const named = seen.out.slice(0, NAMED).join(", ");
  const more = seen.outs > NAMED ? ` and ${count(seen.outs - NAMED)} more` : "";
  return `${named}${more} ${seen.outs === 1 ? "is" : "are"} out. ${calls} in the last hour.`;
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
                <Lamp state={lampOf(one)} />
                <Link to={`/endpoints/${one.name}`} className="font-semibold after:absolute after:inset-0">
                  {one.name}
                </Link>
              </span>
            </td>
            <td className="text-soft">{lampOf(one)}</td>
            <td>
              <span className="relative z-10">
                <Serves says={one.says} live />
              </span>
            </td>
            <td className="text-soft">{ago(one.since)}</td>
            <td className="num">{count(one.hour.calls)}</td>
            <td className="num">{count(one.hour.refused)}</td>
            <td className={`num ${one.hour.failed ? "font-semibold text-brick" : ""}`}>{count(one.hour.failed)}</td>
            <td className="num">{ms(one.hour.p50_ms)}</td>
            <td className="num">{ms(one.hour.p99_ms)}</td>
            <td className="num" title={one.looks.quality ? `${count(one.looks.quality.right)} of ${count(one.looks.quality.of)} known answers of the last 30 days` : "no truth is told yet"}>
              {one.looks.quality ? percent(one.looks.quality.right / one.looks.quality.of) : "–"}
            </td>
            <td title={one.looks.drift_says ?? undefined}>
              <Link to={`/endpoints/${one.name}/drift`} className="relative z-10">
                <Verdict state={one.looks.drift} />
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
      <Snippets all={[{ name: "Command", text: "lamppost push outage-risk.lamp\nlamppost point outage-risk outage-risk@1" }]} id="how to serve" />
    </Card>
  );
}
