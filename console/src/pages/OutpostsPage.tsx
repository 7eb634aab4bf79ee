import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { api, good } from "../api/client";
import { useQuality } from "../api/queries";
import type { components } from "../api/schema";
import { Card, Snippets } from "../parts/basics";
import { Lamp, type LampState } from "../parts/Lamp";
import { OutpostRollouts } from "../parts/OutpostRollouts";
import { QueryState } from "../parts/QueryState";
import { VersionLink } from "../parts/VersionLink";
import { type Column, DataTable } from "../table/DataTable";
import { ago, bytes, count } from "../words";

type Outpost = components["schemas"]["OutpostAnswer"];
type Served = components["schemas"]["OutpostEndpointAnswer"];

const LOOK_MS = 3_000;
const DRIFT_MS = 30_000;
const QUALITY_HOURS = 30 * 24;
const LAMPS = {
  serving: "serving",
  degraded: "degraded",
  down: "down",
  barred: "down",
  "not joined": "asleep",
} as const satisfies Record<Outpost["state"], LampState>;

/** How does every node far away do, and does it serve what it should? */
export function OutpostsPage() {
  const outposts = useQuery({
    queryKey: ["outposts"],
    queryFn: async () => good(await api.GET("/api/outposts")),
    refetchInterval: LOOK_MS,
  });
  return (
    <>
      <h1 className="text-title font-semibold">Outposts</h1>
      <p className="mt-1 text-lead text-soft">{outposts.data ? summary(outposts.data) : " "}</p>
      <OutpostRollouts />
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)] gap-4">
        <QueryState
          query={outposts}
          loading="outposts"
          height={200}
          isEmpty={(all) => all.length === 0}
          empty={
            <Card title="There is no outpost">
              <p className="mb-2 text-soft">
                An outpost is a node without a database, on a machine that may be offline for weeks. It serves what is set here, and brings
                its records when it can.
              </p>
              <Snippets
                id="add an outpost"
                all={[
                  {
                    name: "Command",
                    text: "lamppost outpost new harbour-substation --label region=coast\nlamppost point outage-risk outage-risk@6 --at region=coast",
                  },
                ]}
              />
            </Card>
          }
        >
          {(all) => (
            <>
              <Card title="All of them">
                <DataTable
                  label="outposts"
                  columns={COLUMNS}
                  rows={all}
                  rowKey={(one) => one.name}
                  details={(one) => <OutpostDetails outpost={one} />}
                />
              </Card>
              <Card title="By endpoint">
                <DataTable label="endpoints at outposts" columns={ENDPOINT_COLUMNS} rows={byEndpoint(all)} rowKey={(one) => one.endpoint} />
              </Card>
            </>
          )}
        </QueryState>
      </div>
    </>
  );
}

function summary(all: Outpost[]): string {
  const known = all.filter((one) => one.state !== "barred" && one.state !== "not joined");
  const silent = known.filter((one) => one.state === "down");
  const behind = known.filter((one) => one.endpoints.some((served) => isBehind(one, served)));
  if (!known.length) return "None has joined yet.";
  if (silent.length) return `${silent.map((one) => one.name).join(", ")} ${silent.length > 1 ? "are" : "is"} silent.`;
  if (behind.length) return `${behind.map((one) => one.name).join(", ")} ${behind.length > 1 ? "do" : "does"} not serve what is set.`;
  const served = `${count(known.length)} ${known.length > 1 ? "serve" : "serves"} what is set`;
  const odd = known.find((one) => one.reasons.length);
  return odd ? `${served}; ${odd.name}: ${odd.reasons[0]}.` : `${served}.`;
}

const difference = (seconds: number) => (Math.abs(seconds) < 0.05 ? "0.0" : `${seconds > 0 ? "+" : ""}${seconds.toFixed(1)}`);

/** Whether an outpost does not serve what is set for it; one with lamp files of its own serves these. */
const isBehind = (one: Outpost, served: Served) => !one.own_files && served.served !== served.wanted;

const COLUMNS: Column<Outpost>[] = [
  {
    id: "outpost",
    value: (one) => one.name,
    cell: (one) => (
      <span className="flex items-center gap-2">
        <Lamp state={LAMPS[one.state]} />
        <span className="font-mono">{one.name}</span>
      </span>
    ),
  },
  { id: "state", value: (one) => one.state },
  {
    id: "labels",
    value: (one) => one.labels.join(" ") || "–",
    cell: (one) => (
      <span className="flex flex-col font-mono">
        {one.labels.length ? one.labels.map((label) => <span key={label}>{label}</span>) : "–"}
      </span>
    ),
  },
  {
    id: "serves",
    grow: true,
    value: (one) => one.endpoints.map((served) => served.served ?? "nothing").join(", "),
    cell: (one) => (
      <span className="flex flex-wrap gap-2">
        {one.state === "not joined" && <span className="text-faint">nothing yet</span>}
        {(one.state === "not joined" ? [] : one.endpoints).map((served) => (
          <span key={served.endpoint} className={isBehind(one, served) ? "text-brick" : ""}>
            {isBehind(one, served) ? (
              <span className="font-mono">{`${served.served ?? "nothing"}, not ${served.wanted ?? "nothing"}`}</span>
            ) : (
              <Serves served={served} />
            )}
          </span>
        ))}
      </span>
    ),
  },
  { id: "heard of", value: (one) => one.heard_at, cell: (one) => (one.heard_at ? ago(one.heard_at) : "never") },
  {
    id: "records to come",
    numeric: true,
    value: (one) => one.records_waiting,
    cell: (one) => (one.records_waiting === null ? "–" : count(one.records_waiting)),
  },
  {
    id: "clock s",
    numeric: true,
    value: (one) => one.clock_ahead_s,
    cell: (one) => (one.clock_ahead_s === null ? "–" : difference(one.clock_ahead_s)),
  },
  {
    id: "disk free",
    numeric: true,
    value: (one) => one.disk_free_bytes,
    cell: (one) => (one.disk_free_bytes === null ? "–" : bytes(one.disk_free_bytes)),
  },
  { id: "software", value: (one) => one.software ?? "–", hidden: true },
];

/** What answers for an endpoint there, and what a rollout gives the new version meanwhile. */
function Serves({ served }: { served: Served }) {
  if (!served.served) return <span className="text-faint">a lamp file that is not here</span>;
  return (
    <>
      <VersionLink name={served.served} />
      {served.rollout_percent !== null && <span className="text-amber">, {served.rollout_percent} % new</span>}
    </>
  );
}

/** Whether the rows of the last day at one outpost look like training, an endpoint a line. */
function DriftThere({ outpost }: { outpost: Outpost }) {
  const drift = useQuery({
    queryKey: ["outpost drift", outpost.name],
    queryFn: async () => good(await api.GET("/api/outposts/{name}/drift", { params: { path: { name: outpost.name } } })),
    refetchInterval: DRIFT_MS,
  });
  const counted = (drift.data ?? []).filter((one) => one.rows > 0);
  return counted.map((one) => (
    <p key={one.endpoint}>
      <span className="font-mono">{one.endpoint}</span>, {count(one.rows)} rows of the last day, {count(one.odd)} of them odd:{" "}
      <span className={one.state === "steady" || one.state === "too few" ? "text-soft" : "text-brick"}>{one.summary}</span>
    </p>
  ));
}

/** How good the answers of one outpost for an endpoint were, as far as the truth is known. */
function QualityThere({ outpost, endpoint }: { outpost: string; endpoint: string }) {
  const quality = useQuality(endpoint, QUALITY_HOURS, null, outpost);
  if (!quality.data?.versions.length) return null;
  return (
    <p>
      <Link to={`/endpoints/${endpoint}/outcomes?at=${outpost}`} className="font-mono hover:underline">
        {endpoint}
      </Link>
      , outcomes of 30 days: <span className="text-soft">{quality.data.summary}</span>
    </p>
  );
}

/** What one outpost serves, why it does not serve what it should, and what can be done. */
function OutpostDetails({ outpost }: { outpost: Outpost }) {
  return (
    <div className="grid grid-cols-[minmax(0,1fr)] gap-3 py-1">
      {outpost.reasons.map((reason) => (
        <p key={reason} className="text-brick">
          {reason}
        </p>
      ))}
      {outpost.endpoints.length > 0 && (
        <DataTable
          label={`endpoints of ${outpost.name}`}
          columns={SERVED_COLUMNS}
          rows={outpost.endpoints}
          rowKey={(served) => served.endpoint}
        />
      )}
      <DriftThere outpost={outpost} />
      {outpost.endpoints.map((served) => (
        <QualityThere key={served.endpoint} outpost={outpost.name} endpoint={served.endpoint} />
      ))}
      <p className="text-soft">
        {outpost.address && `It answers at ${outpost.address}, with software of version ${outpost.software ?? "unknown"}. `}
        {outpost.records_at && `The latest call whose record came was ${ago(outpost.records_at)}. `}
        {outpost.payload_bytes_per_day !== null &&
          `It sends ${bytes(outpost.payload_bytes_per_day)} of inputs and answers a day; ${count(outpost.payloads_left_out ?? 0)} calls of today went without theirs.`}
      </p>
      <Snippets
        id={`change ${outpost.name}`}
        all={[
          {
            name: "Command",
            text: `lamppost point ENDPOINT MODEL@N --at ${outpost.name}\nlamppost outpost drift ${outpost.name}\nlamppost outpost bar ${outpost.name}`,
          },
        ]}
      />
    </div>
  );
}

const endpointLink = (name: string) => (
  <Link to={`/endpoints/${name}`} className="font-mono hover:underline">
    {name}
  </Link>
);

const SERVED_COLUMNS: Column<Served>[] = [
  { id: "endpoint", value: (served) => served.endpoint, cell: (served) => endpointLink(served.endpoint) },
  { id: "wanted", value: (served) => served.wanted ?? "–", className: "font-mono" },
  { id: "set for", value: (served) => served.at ?? "–", className: "font-mono" },
  { id: "served", value: (served) => served.served ?? "–", className: "font-mono" },
  { id: "state", value: (served) => served.state ?? "–" },
  { id: "refused because", grow: true, value: (served) => served.refused ?? "–" },
];

type OverOutposts = { endpoint: string; versions: string; outposts: number; behind: string };

/** Each endpoint over all outposts. */
function byEndpoint(all: Outpost[]): OverOutposts[] {
  const names = [...new Set(all.flatMap((one) => one.endpoints.map((served) => served.endpoint)))].sort();
  return names.map((endpoint) => {
    const at = all.flatMap((one) => one.endpoints.filter((served) => served.endpoint === endpoint).map((served) => ({ one, served })));
    const versions = [...new Set(at.map(({ served }) => served.served ?? "nothing"))].sort();
    return {
      endpoint,
      versions: versions
        .map((version) => `${version} at ${count(at.filter(({ served }) => (served.served ?? "nothing") === version).length)}`)
        .join(", "),
      outposts: at.length,
      behind: at.flatMap(({ one, served }) => (isBehind(one, served) ? [one.name] : [])).join(", ") || "–",
    };
  });
}

const ENDPOINT_COLUMNS: Column<OverOutposts>[] = [
  { id: "endpoint", value: (one) => one.endpoint, cell: (one) => endpointLink(one.endpoint) },
  { id: "outposts", numeric: true, value: (one) => one.outposts },
  { id: "served", grow: true, value: (one) => one.versions, className: "font-mono" },
  { id: "not as set", value: (one) => one.behind },
];
