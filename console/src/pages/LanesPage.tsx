import { Link } from "react-router";
import type { Lane } from "../api/client";
import { useLanes } from "../api/queries";
import { Card, Trouble, Waiting } from "../parts/basics";
import { LANE_LAMPS, Lamp } from "../parts/Lamp";
import { VersionLink } from "../parts/VersionLink";
import { bytes, count, plural } from "../words";

/** What is open on this node, and how hard is it at work? */
export function LanesPage() {
  const lanes = useLanes();
  if (lanes.error && !lanes.data) return <Trouble error={lanes.error} again={() => void lanes.refetch()} />;
  const said = lanes.data;
  return (
    <>
      <h1 className="text-title font-semibold">Lanes</h1>
      <p className="mt-1 text-lead text-soft">
        {said ? (
          <>
            {plural(said.open, "version is", "versions are")} open in {plural(said.workers, "worker")}
            {said.asleep ? `, ${plural(said.asleep, "endpoint sleeps", "endpoints sleep")} until asked` : ""}. They hold{" "}
            <span className="font-semibold text-ink">{bytes(said.memory_bytes)}</span> of {bytes(said.budget_bytes)}.
          </>
        ) : (
          <>&nbsp;</>
        )}
      </p>
      <div className="mt-3 h-2 rounded-small bg-sunk" role="img" aria-label="memory held, of the node's budget for models">
        {said && (
          <div
            className="h-2 rounded-small bg-slate-fill"
            style={{ width: `${Math.min(100, (100 * said.memory_bytes) / said.budget_bytes)}%` }}
          />
        )}
      </div>
      <div className="mt-6">
        {!said ? (
          <Waiting height={160} label="loading lanes" />
        ) : said.lanes.length ? (
          <Table all={said.lanes} more={said.open - said.lanes.length} />
        ) : (
          <Nothing />
        )}
      </div>
    </>
  );
}

function Table({ all, more }: { all: Lane[]; more: number }) {
  return (
    <Card title="Open now" aside={<span className="text-small text-faint">lamppost lanes</span>}>
      <table className="figures w-full">
        <thead>
          <tr>
            <th>version</th>
            <th>state</th>
            <th>for</th>
            <th className="num">copies</th>
            <th className="num">waiting</th>
            <th className="num">max rows</th>
            <th className="num">rows/s</th>
            <th className="num">requests</th>
            <th className="num">memory</th>
            <th>worker</th>
            <th className="num">last used</th>
          </tr>
        </thead>
        <tbody>
          {all.map((lane) => (
            <tr key={lane.version} title={lane.reason ?? undefined}>
              <td>
                <span className="inline-flex items-center gap-3 pl-1">
                  <Lamp state={LANE_LAMPS[lane.state]} />
                  <VersionLink name={lane.version} live={lane.endpoints.length > 0} />
                </span>
              </td>
              <td className="text-soft">{lane.state}</td>
              <td className="max-w-44 truncate" title={lane.endpoints.join(", ") || "opened to be measured, asked or compared"}>
                {lane.endpoints[0] ? (
                  <>
                    <Link to={`/endpoints/${lane.endpoints[0]}`} className="hover:underline">
                      {lane.endpoints[0]}
                    </Link>
                    {lane.endpoints.length > 1 && <span className="text-faint"> +{lane.endpoints.length - 1}</span>}
                  </>
                ) : (
                  <span className="text-faint">no endpoint</span>
                )}
              </td>
              <td className="num">
                {lane.copies} <span className="text-faint">of {lane.copies_most}</span>
              </td>
              <td className={`num ${lane.waiting > 1_000 ? "font-semibold text-brick" : ""}`}>{count(lane.waiting)}</td>
              <td className="num">{count(lane.max_rows)}</td>
              <td className="num">{lane.rows_s ? count(Math.round(lane.rows_s)) : "–"}</td>
              <td className="num">{count(lane.requests)}</td>
              <td className="num">{bytes(lane.memory_bytes)}</td>
              <td className="text-soft" title={`process ${lane.pids.join(", ")}`}>
                {lane.shared ? "shared" : "its own"}
                {lane.keep_warm ? ", kept warm" : ""}
              </td>
              <td className="num">{!lane.requests ? "–" : lane.used_s_ago < 2 ? "now" : `${count(Math.round(lane.used_s_ago))} s ago`}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {more > 0 && (
        <p className="mt-3 text-soft">
          The {count(all.length)} busiest of {count(all.length + more)}.
        </p>
      )}
    </Card>
  );
}

const Nothing = () => (
  <Card title="Nothing is open">
    <p className="text-soft">
      A version is opened when an endpoint that serves it is asked for the first time, and let go when memory is short.
    </p>
  </Card>
);
