import { Link } from "react-router";
import type { Endpoint } from "../api/client";
import { useAlerts, useEndpoints } from "../api/queries";
import { Card, Snippets, Trouble, Waiting } from "../parts/basics";
import { Lamp, lampOf } from "../parts/Lamp";
import { Serves } from "../parts/Serves";
import { Verdict } from "../parts/Verdict";
import { NeedsLook } from "./AlertsPage";
import { ago, count, ms, percent, plural } from "../words";

/** What is served, and is it lit? */
export function Overview() {
  const endpoints = useEndpoints();
  const alerts = useAlerts();
  if (endpoints.error && !endpoints.data) return <Trouble error={endpoints.error} again={() => void endpoints.refetch()} />;
  return (
    <>
      <h1 className="text-title font-semibold">Endpoints</h1>
      {endpoints.data ? <p className="mt-1 text-lead text-soft">{sentence(endpoints.data)}</p> : <p className="mt-1 text-lead">&nbsp;</p>}
      <NeedsLook alerts={alerts.data?.filter((one) => one.state !== "resolved") ?? []} />
      <div className="mt-6">
        {!endpoints.data ? <Waiting height={160} label="loading endpoints" /> : endpoints.data.length ? <Table all={endpoints.data} /> : <Empty />}
      </div>
    </>
  );
}

function sentence(all: Endpoint[]): string {
  if (!all.length) return "Nothing is served yet.";
  const dark = all.filter((one) => one.state !== "lit" && one.state !== "unlit");
  const calls = plural(
    all.reduce((sum, one) => sum + one.hour.calls, 0),
    "call",
  );
  if (!dark.length) return `${all.length === 1 ? "One endpoint, and it is lit" : `${all.length} endpoints, all lit`}. ${calls} in the last hour.`;
  return `${dark.map((one) => `${one.name} is ${one.state}`).join(", ")}. ${calls} in the last hour.`;
}

function Table({ all }: { all: Endpoint[] }) {
  return (
    <Card title="Now">
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
    </Card>
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
