import { Download } from "lucide-react";
import { type ReactNode, useMemo } from "react";
import { useNavigate, useParams } from "react-router";
import { api, BASE, good } from "../api/client";
import { useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { outputAddress, type Run, type RunDetail, useRun, useRunProgress } from "../bulk/queries";
import { RunMark } from "../bulk/RunMark";
import { duration, rowsOf, runSentence } from "../bulk/wording";
import { DistributionChart } from "../charts/DistributionChart";
import { binEnds } from "../charts/layout";
import { Bar } from "../parts/Bar";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { QueryState } from "../parts/QueryState";
import { Verdict } from "../parts/Verdict";
import { VersionLink } from "../parts/VersionLink";
import { type Column, DataTable } from "../table/DataTable";
import { count, percent, plural, short, when } from "../words";

/** How far is it, what came of it, and what is different from last time? */
export function BulkRunPage() {
  const { run: name = "" } = useParams();
  const progress = useRunProgress(name);
  const detail = useRun(name, progress.data?.rows ?? 0, progress.data?.state);
  return (
    <QueryState query={progress} loading={`the bulk run ${name}`} height={320}>
      {(run) => (
        <>
          <div className="flex flex-wrap items-start justify-between gap-4">
            <div className="min-w-0">
              <h1 className="flex items-center gap-3 text-title font-semibold">
                <span className="font-mono">{run.name}</span>
                <span className="text-[14px] leading-none font-normal tracking-normal">
                  <RunMark state={run.state} />
                </span>
              </h1>
              <p className="mt-1 max-w-[900px] text-lead break-words text-soft">{runSentence(run)}</p>
            </div>
            <Doing run={run} />
          </div>
          {run.ended_at === null && run.row_total != null && (
            <Bar part={run.rows / Math.max(1, run.row_total)} label={`progress of ${run.name}`} tone="live" className="mt-3" />
          )}
          <div className="mt-4 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-4 max-lg:grid-cols-1 *:min-w-0">
            <div className="grid gap-4 *:min-w-0">
              <QueryState query={detail} loading="its answers" height={240}>
                {(found) => (
                  <>
                    <Answers found={found} />
                    {found.spreads.slice(0, 6).map((spread) => (
                      <Spread key={`${spread.version} ${spread.name}`} spread={spread} />
                    ))}
                    <Rejects found={found} />
                  </>
                )}
              </QueryState>
            </div>
            <div className="grid gap-4 *:min-w-0">
              {detail.data && <Differences found={detail.data} />}
              <Facts run={run} />
            </div>
          </div>
        </>
      )}
    </QueryState>
  );
}

function Doing({ run }: { run: Run }) {
  const may = useMay("point");
  const navigate = useNavigate();
  const path = { params: { path: { run: run.name } } };
  const stop = useServiceChange("bulk", async () => good(await api.POST("/api/bulk/{run}/stop", path)));
  const resume = useServiceChange("bulk", async () => good(await api.POST("/api/bulk/{run}/resume", { ...path, body: {} })));
  const repeat = useServiceChange(
    "bulk",
    async () => good(await api.POST("/api/bulk/{run}/repeat", { ...path, body: { replace: true } })),
    (again) => void navigate(`/bulk/${again.name}`),
  );
  const forget = useServiceChange(
    "bulk",
    async () => good(await api.DELETE("/api/bulk/{run}", path)),
    () => void navigate("/bulk"),
  );
  if (!may) return null;
  const ended = run.ended_at !== null;
  const error = stop.error ?? resume.error ?? repeat.error;
  return (
    <div className="grid justify-items-end gap-2">
      <div className="flex flex-wrap justify-end gap-2">
        {run.result?.fetchable && (
          <a
            className="inline-flex h-8 items-center gap-2 rounded-small bg-amber-fill px-3 font-semibold text-[#1d2731]"
            href={outputAddress(run.name, "output")}
            download
          >
            <Download size={14} aria-hidden /> Output
          </a>
        )}
        {run.result?.rejects_fetchable && (
          <a
            className="inline-flex h-8 items-center gap-2 rounded-small border border-line bg-card px-3 hover:border-slate-fill"
            href={outputAddress(run.name, "rejects")}
            download
          >
            <Download size={14} aria-hidden /> Rejects
          </a>
        )}
        {(run.state === "running" || run.state === "waiting") && (
          <Button disabled={stop.isPending} onClick={() => stop.mutate()}>
            Stop
          </Button>
        )}
        {(run.state === "stopped" || run.state === "failed") && (
          <Button kind="main" disabled={resume.isPending} onClick={() => resume.mutate()}>
            Resume
          </Button>
        )}
        {ended && (
          <ConfirmDialog
            trigger={<Button disabled={repeat.isPending}>Repeat</Button>}
            title={`Repeat ${run.name}?`}
            confirm="Repeat"
            change={repeat}
            command={`lamppost bulk repeat ${run.name} --replace`}
          >
            The same source is read again and scored by what its endpoints serve now.{" "}
            {run.target && (
              <>
                What is at <Mono>{run.target}</Mono> is replaced when the new run has finished.
              </>
            )}
          </ConfirmDialog>
        )}
        {ended && (
          <ConfirmDialog
            trigger={<Button kind="danger">Forget</Button>}
            title={`Forget ${run.name}?`}
            confirm="Forget"
            danger
            change={forget}
            command={`lamppost bulk forget ${run.name}`}
          >
            What is known of the run is deleted{run.target ? `; its output at ${run.target} stays` : ", and its output with it"}. This
            cannot be undone.
          </ConfirmDialog>
        )}
      </div>
      {error && <Trouble error={error} />}
    </div>
  );
}

/** The report to read, and whether it has gone out. */
function ReportLinks({ run }: { run: Run }) {
  const { report } = run;
  return (
    <>
      {(["html", "pdf"] as const).map((form) => (
        <a
          key={form}
          href={`${BASE}/api/bulk/${run.name}/report?form=${form}`}
          target="_blank"
          rel="noreferrer"
          className="mr-3 underline hover:text-ink"
        >
          {form.toUpperCase()}
        </a>
      ))}
      {report && report.to.length > 0 && (
        <span className={report.fault ? "text-brick" : "text-soft"}>
          {report.sent_at
            ? `sent to ${report.to.join(", ")} ${when(report.sent_at)}`
            : report.fault
              ? `not sent to ${report.to.join(", ")} yet: ${report.fault}`
              : `goes to ${report.to.join(", ")}`}
        </span>
      )}
    </>
  );
}

/** How an answer that is a number is spread over the rows, over training. */
function Spread({ spread }: { spread: RunDetail["spreads"][number] }) {
  const ends = useMemo(() => binEnds(spread.edges, spread.range), [spread]);
  return (
    <Card
      title={`Answers: ${spread.name}`}
      aside={
        <span className="text-small text-faint">
          <span className="text-amber">this run</span> over <span className="text-slate">training of {spread.version}</span>
        </span>
      }
    >
      <p className="text-soft">
        Half of the rows lie between {short(spread.quantiles["25"]!)} and {short(spread.quantiles["75"]!)}, nine of ten between{" "}
        {short(spread.quantiles["5"]!)} and {short(spread.quantiles["95"]!)}; the median is {short(spread.quantiles["50"]!)}.
      </p>
      <DistributionChart
        title={spread.name}
        unit="the area of a bar is its share of the rows"
        ends={ends}
        reference={spread.reference}
        window={spread.window}
      />
    </Card>
  );
}

/** How often each answer was given, beside the run before. */
function Answers({ found }: { found: RunDetail }) {
  const columns = Object.entries(found.answers);
  if (!columns.length && !found.spreads.length)
    return (
      <Card title="Answers">
        <p className="text-soft">{found.rows ? "Too few rows for a distribution." : "No row is scored yet."}</p>
      </Card>
    );
  return (
    <>
      {columns.map(([name, counts]) => {
        const total = Object.values(counts).reduce((sum, one) => sum + one, 0);
        const before = found.answers_before?.[name];
        const whole = before ? Object.values(before).reduce((sum, one) => sum + one, 0) : 0;
        return (
          <Card
            key={name}
            title={columns.length > 1 || name !== "label" ? `Answers: ${name}` : "Answers"}
            aside={
              before && (
                <span className="text-small text-faint">
                  <span className="text-amber">this run</span> over <span className="text-slate">{found.before}</span>
                </span>
              )
            }
          >
            <table className="w-full" aria-label={`answers, ${name}`}>
              <thead className="text-small text-faint">
                <tr>
                  <th className="text-left font-normal">answer</th>
                  <th className="text-right font-normal">rows</th>
                  <th className="text-right font-normal">%</th>
                  {before && <th className="text-right font-normal">before, %</th>}
                  <th className="w-1/2 pl-4 text-left font-normal">part of all</th>
                </tr>
              </thead>
              <tbody>
                {Object.entries(counts)
                  .slice(0, 30)
                  .map(([label, rows]) => (
                    <tr key={label} className="h-8">
                      <td className="font-mono">{label}</td>
                      <td className="text-right tabular-nums">{count(rows)}</td>
                      <td className="text-right tabular-nums">{((100 * rows) / total).toFixed(1)}</td>
                      {before && (
                        <td className="text-right text-slate tabular-nums">
                          {((100 * (before[label] ?? 0)) / Math.max(1, whole)).toFixed(1)}
                        </td>
                      )}
                      <td className="pl-4">
                        <Bar part={rows / total} label={`${label}: part of all rows`} tone="live" />
                        {before && (
                          <Bar
                            part={(before[label] ?? 0) / Math.max(1, whole)}
                            label={`${label}: part of all rows in ${found.before ?? "the run before"}`}
                            className="mt-0.5 h-1"
                          />
                        )}
                      </td>
                    </tr>
                  ))}
              </tbody>
            </table>
          </Card>
        );
      })}
    </>
  );
}

function Differences({ found }: { found: RunDetail }) {
  return (
    <Card title="What is different" term="drift">
      {found.drift.length ? (
        <ul className="grid gap-3">
          {found.drift.map((one) => (
            <li key={`${one.version} ${one.against}`}>
              <p className="flex items-center gap-2">
                <span className="text-soft">from</span> <Mono>{one.against}</Mono> <Verdict state={one.state} />
              </p>
              <p className="mt-1 break-words text-soft">{one.summary}</p>
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-soft">Nothing can be said: too few rows, or no reference in the package.</p>
      )}
    </Card>
  );
}

type Reject = { row: number; line?: number; field?: string; fault: string; values?: unknown };

const REJECTS: Column<Reject>[] = [
  { id: "row", numeric: true, width: 72, value: (one) => one.row, cell: (one) => count(one.row) },
  { id: "line", numeric: true, width: 72, value: (one) => one.line ?? null, cell: (one) => (one.line == null ? "" : count(one.line)) },
  { id: "field", width: 144, value: (one) => one.field ?? "", className: "font-mono" },
  { id: "fault", grow: true, value: (one) => one.fault },
];

function Rejects({ found }: { found: RunDetail }) {
  if (!found.rejects) return null;
  const first = found.first_rejects as Reject[];
  return (
    <Card
      title="Rejected rows"
      aside={
        <span className="text-small text-faint">
          {plural(found.rejects, "row")}, {percent(found.rejects / Math.max(1, found.rows))}; at most {percent(found.most_rejects)} may be
        </span>
      }
    >
      <DataTable
        label="rejected rows"
        columns={REJECTS}
        rows={first}
        rowKey={(one) => String(one.row)}
        rowName={(one) => `row ${one.row}`}
        details={(one) => (
          <pre className="overflow-x-auto rounded-small bg-sunk p-3 font-mono text-small whitespace-pre-wrap">
            {JSON.stringify(one.values ?? null, null, 2)}
          </pre>
        )}
      />
      {first.length < found.rejects && (
        <p className="mt-2 text-small text-faint">
          the first {count(first.length)}; all of them are in {found.result?.rejects ?? "the file of rejects, when the run has ended"}
        </p>
      )}
    </Card>
  );
}

function Facts({ run }: { run: Run }) {
  const facts: [string, ReactNode][] = [
    ["from", <Mono key="from">{run.source}</Mono>],
    ["to", run.target ? <Mono key="to">{run.target}</Mono> : "kept here"],
    [
      "by",
      <span key="by" className="flex flex-wrap gap-2">
        {run.versions.map((name) => (
          <VersionLink key={name} name={name} live={run.ended_at === null} />
        ))}
      </span>,
    ],
    ["rows", `${rowsOf(run)}${run.rows_per_second == null ? "" : `, ${count(run.rows_per_second)} a second`}`],
    ["took", run.busy_s ? duration(run.busy_s) : "–"],
    ["began", `${when(run.made_at)}, by ${run.made_by}, on ${run.node}`],
    ["ended", run.ended_at ? when(run.ended_at) : "–"],
    ["digest of the input", run.digest ? <Mono key="digest">{run.digest.slice(0, 16)}…</Mono> : "–"],
    ...(run.state === "finished" ? ([["report", <ReportLinks key="report" run={run} />]] as [string, ReactNode][]) : []),
  ];
  return (
    <Card title="The run">
      <dl className="grid grid-cols-[auto_minmax(0,1fr)] gap-x-4 gap-y-1">
        {facts.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-small leading-6 text-faint">{name}</dt>
            <dd className="break-words">{value}</dd>
          </div>
        ))}
      </dl>
      <div className="mt-3">
        <Snippets
          id="the same by command"
          all={[
            { name: "Follow", text: `lamppost bulk follow ${run.name}` },
            { name: "Show", text: `lamppost bulk show ${run.name}` },
            { name: "Repeat", text: `lamppost bulk repeat ${run.name} --replace` },
          ]}
        />
      </div>
    </Card>
  );
}
