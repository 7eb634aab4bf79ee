import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../api/queries";
import { RunMark } from "../bulk/RunMark";
import { Button, Card, Snippets } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { VersionLink } from "../parts/VersionLink";
import { isGoing, type Sweep, useSweeps } from "../sweeps/queries";
import { StartSweep } from "../sweeps/StartSweep";
import { type Column, DataTable } from "../table/DataTable";
import { ago, count } from "../words";

/** Which settings of lanes were measured, and what goes on now? */
export function SweepsPage() {
  const sweeps = useSweeps();
  const may = useMay("point");
  const [starting, setStarting] = useState(false);
  const going = sweeps.data?.find(isGoing);
  return (
    <>
      <div className="flex flex-wrap items-start justify-between gap-4">
        <div>
          <h1 className="text-title font-semibold">Sweeps</h1>
          <p className="mt-1 text-lead text-soft">
            {sweeps.data ? (going ? `${going.name} is being measured.` : "Nothing is being measured.") : " "}
          </p>
        </div>
        {may && (
          <Button kind={starting ? "quiet" : "main"} aria-expanded={starting} onClick={() => setStarting(!starting)}>
            {starting ? "Close" : "Begin one"}
          </Button>
        )}
      </div>
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)] gap-4">
        {may && starting && <StartSweep />}
        <QueryState
          query={sweeps}
          loading="sweeps"
          height={200}
          isEmpty={(all) => all.length === 0}
          empty={
            <Card title="Nothing was measured yet">
              <p className="mb-2 text-soft">
                A sweep measures rows of a batch, linger, copies, threads and forms of a version with real rows, and picks the best within
                limits.
              </p>
              <Snippets
                id="begin a sweep"
                all={[{ name: "Command", text: "lamppost sweep outage-risk@5 --clients 64 --limit p99=50ms" }]}
              />
            </Card>
          }
        >
          {(all) => (
            <Card title="All of them">
              <DataTable label="sweeps" columns={COLUMNS} rows={all} rowKey={(sweep) => sweep.name} />
            </Card>
          )}
        </QueryState>
      </div>
    </>
  );
}

const COLUMNS: Column<Sweep>[] = [
  {
    id: "sweep",
    grow: true,
    value: (sweep) => sweep.name,
    cell: (sweep) => (
      <Link to={`/sweeps/${sweep.name}`} className="font-mono hover:underline">
        {sweep.name}
      </Link>
    ),
  },
  { id: "state", value: (sweep) => sweep.state, cell: (sweep) => <RunMark state={sweep.state} /> },
  {
    id: "versions",
    value: (sweep) => sweep.plan.versions.join(", "),
    cell: (sweep) => (
      <span className="flex gap-2">
        {sweep.plan.versions.map((name) => (
          <VersionLink key={name} name={name} />
        ))}
      </span>
    ),
  },
  { id: "clients", numeric: true, value: (sweep) => sweep.plan.clients },
  { id: "limits", value: (sweep) => sweep.plan.limits.join(", ") || "–" },
  {
    id: "settings",
    numeric: true,
    value: (sweep) => sweep.measured,
    cell: (sweep) => `${count(sweep.measured)} of ${sweep.combinations ? count(sweep.combinations) : "?"}`,
  },
  { id: "began", value: (sweep) => sweep.made_at, cell: (sweep) => ago(sweep.made_at) },
  { id: "by", value: (sweep) => sweep.made_by },
];
