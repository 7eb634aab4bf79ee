import { useState } from "react";
import { Link } from "react-router";
import { useMay } from "../api/queries";
import { type Run, isGoing, useRuns } from "../bulk/queries";
import { RunMark } from "../bulk/RunMark";
import { SchedulesCard } from "../bulk/SchedulesCard";
import { StartRun } from "../bulk/StartRun";
import { duration, rowsOf } from "../bulk/wording";
import { Bar } from "../parts/Bar";
import { Button, Card, Snippets } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { VersionLink } from "../parts/VersionLink";
import { type Column, DataTable } from "../table/DataTable";
import { ago, count, plural } from "../words";

/** Which files and tables were scored as a whole, and what goes on now? */
export function BulkPage() {
  const runs = useRuns();
  const may = useMay("point");
  const [starting, setStarting] = useState(false);
  return (
    <>
      <div className="flex flex-wrap items-start justify-between gap-4">
        <div>
          <h1 className="text-title font-semibold">Bulk runs</h1>
          <p className="mt-1 text-lead text-soft">{runs.data ? saidOf(runs.data) : " "}</p>
        </div>
        {may && (
          <Button kind={starting ? "quiet" : "main"} aria-expanded={starting} onClick={() => setStarting(!starting)}>
            {starting ? "Close" : "Start one"}
          </Button>
        )}
      </div>
      <div className="mt-4 grid grid-cols-[minmax(0,1fr)] gap-4">
        {may && starting && <StartRun />}
        <QueryState
          query={runs}
          loading="bulk runs"
          height={200}
          isEmpty={(all) => all.length === 0}
          empty={
            <Card title="No file was scored yet">
              <Snippets
                id="score a file"
                all={[{ name: "Command", text: "lamppost bulk start outage-risk --from lamps.csv --to scored.csv --keep lamp_id" }]}
              />
            </Card>
          }
        >
          {(all) => (
            <Card title="All of them">
              <DataTable label="bulk runs" columns={COLUMNS} rows={all} rowKey={(run) => run.name} />
            </Card>
          )}
        </QueryState>
        <SchedulesCard />
      </div>
    </>
  );
}

function saidOf(runs: Run[]): string {
  const going = runs.filter(isGoing);
  const failed = runs.find((run) => run.ended_at !== null);
  if (going.length) return `${plural(going.length, "run goes", "runs go")} on now.`;
  if (!failed) return "None yet.";
  return failed.state === "finished"
    ? `Nothing goes on. The last run scored ${plural(failed.rows, "row")} ${ago(failed.ended_at!)}.`
    : `Nothing goes on. The last run ${failed.state === "failed" ? "failed" : "was stopped"} ${ago(failed.ended_at!)}.`;
}

const COLUMNS: Column<Run>[] = [
  {
    id: "run",
    width: 168,
    value: (run) => run.name,
    cell: (run) => (
      <Link to={`/bulk/${run.name}`} className="font-mono hover:underline">
        {run.name}
      </Link>
    ),
  },
  { id: "state", width: 112, value: (run) => run.state, cell: (run) => <RunMark state={run.state} /> },
  {
    id: "versions",
    width: 160,
    value: (run) => run.versions.join(", "),
    cell: (run) => (
      <span className="flex gap-2">
        {run.versions.slice(0, 2).map((name) => (
          <VersionLink key={name} name={name} />
        ))}
        {run.versions.length > 2 && <span className="text-faint">+{run.versions.length - 2}</span>}
      </span>
    ),
  },
  {
    id: "rows",
    numeric: true,
    width: 168,
    value: (run) => run.rows,
    cell: (run) =>
      isGoing(run) && run.row_total ? (
        <span className="inline-flex items-center gap-2">
          <Bar part={run.rows / run.row_total} label={`progress of ${run.name}`} tone="live" className="w-16" /> {rowsOf(run)}
        </span>
      ) : (
        rowsOf(run)
      ),
  },
  {
    id: "rejects",
    numeric: true,
    width: 80,
    value: (run) => run.rejects,
    cell: (run) => (run.rejects ? <span className="text-brick">{count(run.rejects)}</span> : "0"),
  },
  {
    id: "rows/s",
    numeric: true,
    width: 88,
    value: (run) => run.rows_per_second,
    cell: (run) => (run.rows_per_second == null ? "–" : count(run.rows_per_second)),
  },
  {
    id: "took",
    hidden: true,
    numeric: true,
    width: 72,
    value: (run) => run.busy_s,
    cell: (run) => (run.busy_s ? duration(run.busy_s) : "–"),
  },
  { id: "began", width: 112, value: (run) => run.made_at, cell: (run) => ago(run.made_at) },
  { id: "by", width: 96, value: (run) => run.made_by, hidden: true },
  { id: "from", grow: true, value: (run) => run.source, className: "font-mono text-soft" },
  { id: "to", width: 160, value: (run) => run.target ?? "kept here", className: "font-mono text-soft", hidden: true },
];
