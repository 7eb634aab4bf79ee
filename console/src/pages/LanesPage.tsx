import { Link } from "react-router";
import type { Lane, LanesPage as Seen } from "../api/client";
import { useLanes, useNode, useOverview } from "../api/queries";
import { Bar } from "../parts/Bar";
import { Card, Snippets } from "../parts/basics";
import { LANE_LAMPS, Lamp } from "../parts/Lamp";
import { LaneDetails } from "../parts/LaneDetails";
import { QueryState } from "../parts/QueryState";
import { Term, Truncated } from "../parts/Tip";
import { VersionLink } from "../parts/VersionLink";
import { type Column, DataTable } from "../table/DataTable";
import { bytes, count, plural, sentence } from "../words";

/** What is open on this node, and how hard is it at work? */
export function LanesPage() {
  const lanes = useLanes();
  const seen = lanes.data;
  return (
    <>
      <h1 className="text-title font-semibold">
        <Term word="lane">Lanes</Term>
      </h1>
      <p className="mt-1 text-lead text-soft">
        {seen ? (
          <>
            {plural(seen.open, "version is", "versions are")} open in <Term word="worker">{plural(seen.workers, "worker")}</Term>
            {seen.asleep ? `, ${plural(seen.asleep, "endpoint sleeps", "endpoints sleep")} until asked` : ""}. They hold{" "}
            <span className="font-semibold text-ink">{bytes(seen.memory_bytes)}</span> of {bytes(seen.budget_bytes)}.
          </>
        ) : (
          "\u00a0"
        )}
      </p>
      <Bar className="mt-3" part={seen ? seen.memory_bytes / seen.budget_bytes : 0} label="memory held, of the node's budget for models" />
      <NodeState />
      <div className="mt-6">
        <QueryState query={lanes} loading="lanes" height={160}>
          {(found) => (
            <>
              <Open seen={found} />
              <div className="mt-4 grid grid-cols-[3fr_2fr] items-start gap-4 *:min-w-0">
                <Workers lanes={found.lanes} />
                <div className="grid gap-4 *:min-w-0">
                  <Asleep />
                  <NextSteps lane={found.lanes[0]} />
                </div>
              </div>
            </>
          )}
        </QueryState>
      </div>
    </>
  );
}

/** What holds the workers, and records that could not be stored: neither has a page of its own. */
function NodeState() {
  const node = useNode().data;
  if (!node) return <p className="mt-3">{"\u00a0"}</p>;
  return (
    <>
      <p className={`mt-3 ${node.confinement.files ? "text-soft" : "font-semibold text-brick"}`}>{sentence(node.confinement.summary)}</p>
      {node.records_set_aside > 0 && (
        <p className="mt-1 font-semibold text-brick">
          The records of {plural(node.records_set_aside, "call")} could not be stored and were set aside. Why, and how to try again:{" "}
          <code className="font-mono text-small">lamppost records</code>
        </p>
      )}
    </>
  );
}

const COLUMNS: Column<Lane>[] = [
  {
    id: "version",
    width: 200,
    value: (lane) => lane.version,
    cell: (lane) => (
      <span className="inline-flex max-w-full items-center gap-3 pl-1">
        <Lamp state={LANE_LAMPS[lane.state]} />
        <VersionLink name={lane.version} live={lane.endpoints.length > 0} />
      </span>
    ),
  },
  {
    id: "state",
    width: 96,
    value: (lane) => lane.state,
    cell: (lane) => (lane.reason ? <Truncated tip={lane.reason}>{`${lane.state}: ${lane.reason}`}</Truncated> : lane.state),
    className: "max-w-56 text-soft",
  },
  {
    id: "for",
    grow: true,
    value: (lane) => lane.endpoints.join(" "),
    cell: (lane) =>
      lane.endpoints.length ? (
        lane.endpoints.map((name, at) => (
          <span key={name}>
            {at > 0 && ", "}
            <Link to={`/endpoints/${name}`} className="hover:underline">
              {name}
            </Link>
          </span>
        ))
      ) : (
        <span className="text-faint">no endpoint: opened to be measured, asked or compared</span>
      ),
  },
  {
    id: "copies",
    numeric: true,
    value: (lane) => lane.copies,
    cell: (lane) => (
      <>
        {lane.copies} <span className="text-faint">of {lane.copies_most}</span>
      </>
    ),
  },
  {
    id: "waiting",
    numeric: true,
    value: (lane) => lane.waiting,
    cell: (lane) => count(lane.waiting),
    className: (lane) => (lane.waiting > 1_000 ? "font-semibold text-brick" : ""),
  },
  { id: "max rows", numeric: true, value: (lane) => lane.max_rows, cell: (lane) => count(lane.max_rows) },
  { id: "rows/s", numeric: true, value: (lane) => lane.rows_s, cell: (lane) => (lane.rows_s ? count(Math.round(lane.rows_s)) : "–") },
  { id: "requests", numeric: true, value: (lane) => lane.requests, cell: (lane) => count(lane.requests) },
  { id: "memory", numeric: true, value: (lane) => lane.memory_bytes, cell: (lane) => bytes(lane.memory_bytes) },
  {
    id: "worker",
    width: 136,
    value: (lane) => `${lane.shared ? "shared" : "its own"}${lane.keep_warm ? ", kept warm" : ""}`,
    className: "text-soft",
  },
  { id: "processes", hidden: true, value: (lane) => lane.pids.join(" "), className: "font-mono text-small" },
  {
    id: "last used",
    numeric: true,
    value: (lane) => (lane.requests ? lane.used_s_ago : null),
    cell: (lane) => (!lane.requests ? "–" : lane.used_s_ago < 2 ? "now" : `${count(Math.round(lane.used_s_ago))} s ago`),
  },
];

function Open({ seen }: { seen: Seen }) {
  const { lanes } = seen;
  if (!lanes.length)
    return (
      <Card title="Nothing is open">
        <p className="text-soft">
          A version is opened when an endpoint that serves it is asked for the first time, and let go when memory is short.
        </p>
      </Card>
    );
  return (
    <Card title="Open now" aside={<span className="text-small text-faint">a row opens to its batches and copies · lamppost lanes</span>}>
      <DataTable
        label="lanes"
        columns={COLUMNS}
        rows={lanes}
        rowKey={(lane) => lane.version}
        details={(lane) => <LaneDetails lane={lane} />}
        opened={lanes.length < 12 ? lanes[0]!.version : null}
      />
      {seen.open > lanes.length && (
        <p className="mt-3 text-soft">
          The {count(lanes.length)} busiest of {count(seen.open)}.
        </p>
      )}
    </Card>
  );
}

type Worker = { pid: number; shared: boolean; lanes: Lane[] };

const WORKER_COLUMNS: Column<Worker>[] = [
  { id: "process", width: 88, value: (worker) => worker.pid, className: "font-mono" },
  { id: "kind", width: 80, value: (worker) => (worker.shared ? "shared" : "dedicated"), className: "text-soft" },
  {
    id: "runs",
    grow: true,
    value: (worker) => worker.lanes.map((lane) => lane.version).join(" "),
    cell: (worker) =>
      worker.lanes.map((lane, at) => (
        <span key={lane.version}>
          {at > 0 && ", "}
          <VersionLink name={lane.version} live={lane.endpoints.length > 0} />
        </span>
      )),
  },
  { id: "versions", numeric: true, value: (worker) => worker.lanes.length },
  {
    id: "rows/s",
    numeric: true,
    value: (worker) => Math.round(worker.lanes.reduce((sum, lane) => sum + lane.rows_s / Math.max(1, lane.pids.length), 0)),
  },
];

/** Which process runs what: what ends with one of them is what stands beside it. */
function Workers({ lanes }: { lanes: Lane[] }) {
  const found = new Map<number, Worker>();
  for (const lane of lanes)
    for (const pid of lane.pids) {
      const worker = found.get(pid) ?? { pid, shared: lane.shared, lanes: [] };
      worker.lanes.push(lane);
      found.set(pid, worker);
    }
  if (!found.size) return null;
  return (
    <Card title="Workers" term="worker" aside={<span className="text-small text-faint">small versions that are data only share one</span>}>
      <DataTable label="workers" columns={WORKER_COLUMNS} rows={[...found.values()]} rowKey={(worker) => String(worker.pid)} height={320} />
    </Card>
  );
}

function Asleep() {
  const overview = useOverview("", true);
  const asleep = overview.data?.shown.filter((endpoint) => endpoint.state === "asleep") ?? [];
  const many = overview.data?.states.asleep ?? 0;
  if (!asleep.length) return null;
  return (
    <Card title="Asleep">
      <p className="text-soft">
        {asleep.slice(0, 20).map((endpoint, at) => (
          <span key={endpoint.name}>
            {at > 0 && ", "}
            <Link to={`/endpoints/${endpoint.name}`} className="text-ink hover:underline">
              {endpoint.name}
            </Link>
          </span>
        ))}
        {many > 20 && ` and ${count(many - Math.min(20, asleep.length))} more`}. The next call opens {many === 1 ? "it" : "one"}.
      </p>
    </Card>
  );
}

function NextSteps({ lane }: { lane: Lane | undefined }) {
  const endpoint = lane?.endpoints[0] ?? "ENDPOINT";
  return (
    <Card title="Change how versions run">
      <Snippets
        id="how to change how versions run"
        all={[
          { name: "Warm", text: `lamppost setup ${endpoint} --lane keep_warm=true` },
          { name: "Copies", text: `lamppost setup ${endpoint} --lane copies_most=4` },
          { name: "Target", text: `lamppost setup ${endpoint} --lane target_ms=20   # p99; batches stay small enough` },
          { name: "Memory", text: "lamppost up --memory 4GB" },
        ]}
      />
    </Card>
  );
}
