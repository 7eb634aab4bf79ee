import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, good } from "../api/client";
import { useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { RunMark } from "../bulk/RunMark";
import { ScatterChart } from "../charts/ScatterChart";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { Given } from "../parts/Given";
import { QueryState } from "../parts/QueryState";
import { SelectMenu } from "../parts/SelectMenu";
import { VersionLink } from "../parts/VersionLink";
import { isGoing, reportAddress, type Goal, type Setting, type SweepDetail, useSweep, type Wanted } from "../sweeps/queries";
import { limitOf, roleOf, withLimit } from "../sweeps/settings";
import { UsePick } from "../sweeps/UsePick";
import { type Column, DataTable } from "../table/DataTable";
import { usePageParams } from "../usePageParams";
import { ago, count, ms, plural, sentence, short } from "../words";

const GOALS: { value: Goal; text: string }[] = [
  { value: "throughput", text: "most requests/s" },
  { value: "p50", text: "least p50" },
  { value: "p99", text: "least p99" },
  { value: "memory", text: "least memory" },
  { value: "cpu", text: "least processor time" },
];

/** Which setting is best within the limits, and what was it chosen from? */
export function SweepPage() {
  const { sweep: name = "" } = useParams();
  const [params, setParam] = usePageParams();
  const [dragged, setDragged] = useState<string[] | null>(null);
  const given = params.get("limits");
  const typed = given === null ? null : given.split(",").filter((text) => text && text !== "none");
  const goal = params.get("goal") as Goal | null;
  const wanted: Wanted = { limits: dragged ?? typed, goal };
  const sweep = useSweep(name, wanted);
  const choose = (limits: string[]): void => {
    setDragged(null);
    setParam("limits", limits.length ? limits.join(",") : "none");
  };
  return (
    <QueryState query={sweep} loading={`the sweep ${name}`} height={420}>
      {(found) => {
        const limits = dragged ?? found.picked.limits;
        const [first, ...others] = found.picked.sentences;
        return (
          <>
            <div className="flex flex-wrap items-start justify-between gap-4">
              <h1 className="flex items-center gap-3 text-title font-semibold">
                <span className="font-mono">{found.name}</span>
                <span className="text-[14px] leading-none font-normal tracking-normal">
                  <RunMark state={found.state} />
                </span>
              </h1>
              <Doing found={found} wanted={wanted} />
            </div>
            <p className="mt-1 max-w-[900px] text-lead break-words text-soft">{sentence(first ?? "")}</p>
            <p className="mt-1 text-small text-faint">
              {found.plan.versions.map((version) => (
                <VersionLink key={version} name={version} />
              ))}{" "}
              at {plural(found.plan.clients, "client")}, rows of {found.plan.rows}; {count(found.measured)} of{" "}
              {found.combinations ? count(found.combinations) : "?"} combinations, {plural(found.repeats, "measurement")} in{" "}
              {Math.round(found.busy_s)} s; by {found.made_by}, {ago(found.made_at)}
            </p>
            {found.reason && <p className="mt-1 text-small text-faint">{sentence(found.reason)}</p>}
            {found.waits_for && (
              <p className="mt-1 text-small text-faint">
                It waits until{" "}
                <Link className="underline" to={`/sweeps/${found.waits_for}`}>
                  {found.waits_for}
                </Link>{" "}
                is measured: two at once would disturb each other.
              </p>
            )}
            <div className="mt-4 grid gap-4 *:min-w-0">
              <Card
                title="Settings"
                aside={
                  <div className="flex flex-wrap items-center gap-2">
                    <SelectMenu
                      label="what the pick has"
                      value={found.picked.goal}
                      options={GOALS}
                      onChange={(value) => setParam("goal", value)}
                    />
                  </div>
                }
              >
                <Scatter found={found} limits={limits} onDrag={setDragged} onChoose={choose} />
                <div className="mt-2 grid grid-cols-[minmax(0,1fr)_160px_160px] items-start gap-4 max-lg:grid-cols-1">
                  <div>
                    <ul className="grid gap-1 text-soft">
                      {others.map((text) => (
                        <li key={text}>{sentence(text)}</li>
                      ))}
                    </ul>
                    <div className="mt-3">
                      <Snippets id="pick" all={[{ name: "Command", text: pickCommand(found) }]} />
                    </div>
                  </div>
                  <LimitInput key={`p99 ${limitOf(limits, "p99")}`} figure="p99" unit="ms" limits={limits} onChoose={choose} />
                  <LimitInput key={`memory ${limitOf(limits, "memory")}`} figure="memory" unit="MB" limits={limits} onChoose={choose} />
                </div>
              </Card>
              <Phases found={found} />
              <Card title="All that was measured">
                <SettingTable found={found} />
              </Card>
            </div>
          </>
        );
      }}
    </QueryState>
  );
}

const pickCommand = (found: SweepDetail): string =>
  [`lamppost sweep pick ${found.name}`, ...found.picked.limits.map((limit) => `--limit ${limit}`)].join(" ");

function LimitInput(props: { figure: string; unit: string; limits: string[]; onChoose: (limits: string[]) => void }) {
  const { figure, unit, limits, onChoose } = props;
  const [typed, setTyped] = useState(String(limitOf(limits, figure) ?? ""));
  const commit = (): void => {
    const value = Number.parseFloat(typed);
    onChoose(withLimit(limits, figure, Number.isFinite(value) && value > 0 ? value : null, unit));
  };
  return (
    <Given label={`${figure} at most, ${unit}`}>
      <input
        className="control font-mono"
        inputMode="decimal"
        placeholder="no limit"
        value={typed}
        onChange={(event) => setTyped(event.target.value)}
        onBlur={commit}
        onKeyDown={(event) => event.key === "Enter" && commit()}
      />
    </Given>
  );
}

function Scatter(props: {
  found: SweepDetail;
  limits: string[];
  onDrag: (limits: string[] | null) => void;
  onChoose: (limits: string[]) => void;
}) {
  const { found, limits, onDrag, onChoose } = props;
  const points = found.settings.flatMap((setting) => {
    const { throughput, p99 } = setting.figures;
    if (!throughput || !p99) return [];
    const role = roleOf(found, setting);
    return [
      {
        x: throughput.median,
        y: p99.median,
        name: `${setting.sentence}: ${count(throughput.median)} requests/s, p99 ${ms(p99.median)} ms (${ms(p99.low)} to ${ms(p99.high)})${role && `, ${role}`}`,
        tone: setting.within ? ("live" as const) : ("held" as const),
        label: role === "equal" ? "" : role,
        onLine: setting.on_frontier,
      },
    ];
  });
  if (!points.length) return <p className="py-8 text-soft">The first setting is being measured.</p>;
  return (
    <ScatterChart
      title="Throughput against p99"
      unit="p99, ms"
      across="requests/s"
      height={300}
      most={3 * (limitOf(limits, "p99") ?? median(points.map((point) => point.y)))}
      points={points}
      limit={{
        value: limitOf(limits, "p99"),
        name: "p99 at most, ms",
        text: (value) => (value === null ? "no limit" : `${short(value)} ms`),
        onDrag: (value) => onDrag(withLimit(limits, "p99", value, "ms")),
        onCommit: (value) => onChoose(withLimit(limits, "p99", value, "ms")),
      }}
    />
  );
}

const median = (values: number[]): number => [...values].sort((a, b) => a - b)[values.length >> 1]!;

function Phases({ found }: { found: SweepDetail }) {
  const chosen = (["pick", "second"] as const).flatMap((role) => {
    const number = found.picked[role];
    return number == null ? [] : [{ role, setting: found.settings[number]! }];
  });
  if (!chosen.length) return null;
  const phases = [...new Set(chosen.flatMap(({ setting }) => Object.keys(setting.phases_p50_ms)))];
  const columns: Column<{ phase: string }>[] = [
    { id: "phase", value: (row) => row.phase, grow: true },
    ...chosen.flatMap(({ role, setting }) =>
      (["p50", "p99"] as const).map((part): Column<{ phase: string }> => {
        const figures = part === "p50" ? setting.phases_p50_ms : setting.phases_p99_ms;
        return {
          id: `${role}, ${part} ms`,
          numeric: true,
          value: (row) => figures[row.phase] ?? null,
          cell: (row) => ms(figures[row.phase]),
        };
      }),
    ),
  ];
  return (
    <Card title="Where the time goes" aside={<span className="text-small text-faint">{chosen[0]!.setting.sentence}</span>}>
      <DataTable label="phases" columns={columns} rows={phases.map((phase) => ({ phase }))} rowKey={(row) => row.phase} />
    </Card>
  );
}

const figure = (name: string, head: string, shown: (value: number) => string, scale = 1): Column<Setting> => ({
  id: head,
  numeric: true,
  value: (setting) => (setting.figures[name] ? setting.figures[name].median / scale : null),
  cell: (setting) => (setting.figures[name] ? shown(setting.figures[name].median / scale) : "–"),
});

function SettingTable({ found }: { found: SweepDetail }) {
  const columns: Column<Setting>[] = [
    {
      id: "role",
      head: null,
      value: (setting) => roleOf(found, setting),
      cell: (setting) =>
        setting.failed ? (
          <span className="font-semibold text-brick">failed</span>
        ) : (
          <span className={roleOf(found, setting) === "pick" ? "font-semibold text-amber" : "text-soft"}>
            {roleOf(found, setting) || (setting.within ? "" : "outside")}
          </span>
        ),
    },
    ...(found.plan.versions.length > 1
      ? [{ id: "version", value: (setting: Setting) => setting.version, cell: (setting: Setting) => <Mono>{setting.version}</Mono> }]
      : []),
    { id: "form", value: (setting) => setting.form },
    { id: "rows", numeric: true, value: (setting) => setting.max_rows, cell: (setting) => count(setting.max_rows) },
    { id: "linger ms", numeric: true, value: (setting) => setting.linger_ms },
    { id: "copies", numeric: true, value: (setting) => setting.copies },
    { id: "threads", numeric: true, value: (setting) => setting.threads },
    figure("throughput", "requests/s", count),
    figure("p50", "p50 ms", ms),
    figure("p99", "p99 ms", ms),
    {
      id: "p99 between",
      numeric: true,
      value: (setting) => setting.figures.p99?.high ?? null,
      cell: (setting) => (setting.figures.p99 ? `${ms(setting.figures.p99.low)} to ${ms(setting.figures.p99.high)}` : "–"),
    },
    figure("memory", "memory MB", count, 1e6),
    figure("cpu", "µs a row", short),
    { id: "rows together", numeric: true, value: (setting) => setting.batch_rows, hidden: true },
    { id: "others, cores", numeric: true, value: (setting) => setting.others, hidden: true },
    { id: "repeats", numeric: true, value: (setting) => setting.repeats },
    { id: "why it failed", value: (setting) => setting.failed ?? "", hidden: !found.settings.some((setting) => setting.failed) },
  ];
  const order = [...found.settings].sort(
    (a, b) => Number(b.within) - Number(a.within) || (b.figures.throughput?.median ?? 0) - (a.figures.throughput?.median ?? 0),
  );
  return <DataTable label="settings" columns={columns} rows={order} rowKey={(setting) => String(setting.number)} height={420} />;
}

function Doing({ found, wanted }: { found: SweepDetail; wanted: Wanted }) {
  const may = useMay("point");
  const navigate = useNavigate();
  const path = { params: { path: { name: found.name } } };
  const stop = useServiceChange("sweeps", async () => good(await api.POST("/api/sweeps/{name}/stop", path)));
  const resume = useServiceChange("sweeps", async () =>
    good(await api.POST("/api/sweeps/{name}/resume", { ...path, body: { more_s: 300, limits: wanted.limits } })),
  );
  const forget = useServiceChange(
    "sweeps",
    async () => good(await api.DELETE("/api/sweeps/{name}", path)),
    () => void navigate("/sweeps"),
  );
  const error = stop.error ?? resume.error;
  return (
    <div className="grid shrink-0 justify-items-end gap-2">
      <div className="flex items-center justify-end gap-2 max-lg:flex-wrap">
        <a
          className="inline-flex h-8 items-center rounded-small border border-line bg-card px-3 hover:border-slate-fill"
          href={reportAddress(found.name, "pdf", wanted)}
          target="_blank"
          rel="noreferrer"
        >
          Report
        </a>
        {may && isGoing(found) && (
          <Button disabled={stop.isPending || found.state === "stopping"} onClick={() => stop.mutate()}>
            Stop
          </Button>
        )}
        {may && !isGoing(found) && (
          <Button disabled={resume.isPending} onClick={() => resume.mutate()}>
            Measure on
          </Button>
        )}
        {may && found.picked.pick != null && <UsePick found={found} wanted={wanted} />}
        {may && !isGoing(found) && (
          <ConfirmDialog
            trigger={<Button kind="danger">Forget</Button>}
            title={`Forget ${found.name}?`}
            confirm="Forget"
            danger
            change={forget}
            command={`lamppost sweep forget ${found.name}`}
          >
            All that it measured is deleted. What endpoints use of it stays.
          </ConfirmDialog>
        )}
      </div>
      {error && <Trouble error={error} />}
    </div>
  );
}
