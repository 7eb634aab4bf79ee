import type { EndpointPage, Moment, TrafficPage } from "../api/client";
import { useTraffic } from "../api/queries";
import { Bar } from "../parts/Bar";
import { Card } from "../parts/basics";
import { LoadsCard } from "../parts/LoadsCard";
import { QueryState } from "../parts/QueryState";
import { TimeControl } from "../time/TimeControl";
import { usePageSpan } from "../time/usePageSpan";
import { distinctMarks, spanWithData } from "../charts/layout";
import { PageTime } from "../charts/PageTime";
import { type Mark, type Point, type Series, TimeChart } from "../charts/TimeChart";
import { count, ms, percent, when } from "../words";

const SPANS = ["hour", "day", "week", "30 days"] as const;

/** How much, how fast, and where does the time go? */
export function TrafficView({ page }: { page: EndpointPage }) {
  const span = usePageSpan(SPANS, "hour");
  const traffic = useTraffic(page.name, span.hours, span.fixed);
  return (
    <>
      <div className="mt-4 flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <p className="text-lead text-soft">{traffic.data?.summary ?? <>&nbsp;</>}</p>
        <TimeControl span={span} />
      </div>
      <QueryState query={traffic} loading="the load" height={560}>
        {(found) => (
          <PageTime zoom={span.fixed} setZoom={span.setFixed}>
            <Charts page={page} found={found} zoomed={span.fixed !== null} />
          </PageTime>
        )}
      </QueryState>
      <LoadsCard endpoint={page.name} />
    </>
  );
}

function Charts({ page, found, zoomed }: { page: EndpointPage; found: TrafficPage; zoomed: boolean }) {
  const whole = { since: Date.parse(found.since), until: Date.parse(found.until) };
  const step = found.step_s * 1_000;
  const { since, until } = zoomed
    ? whole
    : spanWithData(
        found.moments.map((one) => Date.parse(one.at)),
        whole.since,
        whole.until,
        24 * step,
      );
  const marks: Mark[] = distinctMarks([...found.changes].reverse().map((one) => ({ at: Date.parse(one.at), name: one.summary })));
  const filled = fill(found.moments, since, until, step);
  const line = (name: string, colour: string, key: "p50" | "p90" | "p95" | "p99"): Series => ({
    name,
    colour,
    points: found.moments.map((one) => ({ at: Date.parse(one.at), value: one[key] })),
  });
  const fastest = Math.max(0, ...found.moments.map((one) => one.rate));
  const [per, unit] =
    fastest >= 1 ? ([1, "a second"] as const) : fastest >= 1 / 60 ? ([60, "a minute"] as const) : ([3_600, "an hour"] as const);
  const rate: Point[] = filled.map((one) => ({ at: one.at, value: per * (one.moment?.rate ?? 0) }));
  const wrong = (key: "failed" | "refused"): Point[] => filled.map((one) => ({ at: one.at, value: one.moment?.[key] ?? 0 }));
  const common = { since, until, marks, step };
  const target = page.setup.monitoring?.objectives?.fast_ms;
  const some = found.moments.some((one) => one.failed || one.refused);
  return (
    <>
      <Card
        title="Load"
        className="mt-4"
        aside={
          <span className="text-small text-faint">
            {since > whole.since && `calls since ${when(since)}; nothing before. `}
            {`lamppost traffic ${page.name}`}
          </span>
        }
      >
        <div className="flex flex-col gap-3">
          <TimeChart
            title="Calls"
            unit={unit}
            series={[{ name: "calls", colour: "var(--amber-fill)", points: rate, area: true }]}
            {...common}
          />
          <TimeChart
            title="How fast"
            unit="ms"
            series={[line("p99", "var(--amber-fill)", "p99"), line("p90", "var(--amber)", "p90"), line("p50", "var(--slate)", "p50")]}
            limit={target ? { value: target, name: `${target} ms` } : undefined}
            {...common}
          />
          {some ? (
            <TimeChart
              title="Errors"
              unit={`calls in ${found.step_s} s`}
              height={92}
              series={[
                { name: "failed", colour: "var(--brick)", points: wrong("failed") },
                { name: "refused", colour: "var(--slate)", points: wrong("refused") },
              ]}
              {...common}
            />
          ) : (
            <p className="text-soft">No call failed or was refused in this span.</p>
          )}
        </div>
      </Card>
      <div className="mt-4 grid grid-cols-[3fr_2fr] items-start gap-4 *:min-w-0">
        <Phases found={found} />
        <Errors found={found} />
      </div>
      {found.budgets.length > 0 && <Budgets found={found} />}
      {found.lanes.length > 1 && (
        <Card title="Lanes" className="mt-4" aside={<span className="text-small text-faint">all nodes together</span>}>
          <div className="grid grid-cols-3 gap-4 *:min-w-0">
            {(
              [
                ["Copies", "workers", "copies"],
                ["Waiting", "rows", "waiting"],
                ["Memory", "MB", "memory_mb"],
              ] as const
            ).map(([title, unit, key]) => (
              <TimeChart
                key={key}
                title={title}
                unit={unit}
                height={92}
                series={[
                  {
                    name: title.toLowerCase(),
                    colour: "var(--slate)",
                    points: found.lanes.map((one) => ({ at: Date.parse(one.at), value: one[key] })),
                  },
                ]}
                {...common}
                step={Math.max(step, 90_000)}
              />
            ))}
          </div>
        </Card>
      )}
    </>
  );
}

/** Every step, with or without calls. */
function fill(moments: Moment[], since: number, until: number, step: number): { at: number; moment: Moment | undefined }[] {
  const known = new Map(moments.map((one) => [Date.parse(one.at), one]));
  const first = Math.floor(since / step) * step;
  return Array.from({ length: Math.ceil((until - first) / step) }, (_, at) => ({
    at: first + at * step,
    moment: known.get(first + at * step),
  })).filter((one) => one.at >= since);
}

function Phases({ found }: { found: TrafficPage }) {
  const whole = found.phases.filter((one) => one.phase !== "total").reduce((sum, one) => sum + (one.ms.p50 ?? 0), 0);
  return (
    <Card title="Where the time goes">
      {found.phases.length ? (
        <table className="figures w-full">
          <thead>
            <tr>
              <th>phase</th>
              <th className="w-full">
                <span className="sr-only">share of the whole</span>
              </th>
              <th className="num">p50 ms</th>
              <th className="num">p90</th>
              <th className="num">p95</th>
              <th className="num">p99</th>
            </tr>
          </thead>
          <tbody>
            {found.phases.map((one) => (
              <tr key={one.phase} className={one.phase === "total" ? "font-semibold" : ""}>
                <th scope="row">{one.phase}</th>
                <td>
                  {one.phase !== "total" && (
                    <Bar
                      className="h-3!"
                      tone="live"
                      part={(one.ms.p50 ?? 0) / Math.max(1e-9, whole)}
                      label={`${one.phase} of the whole`}
                    />
                  )}
                </td>
                <td className="num">{ms(one.ms.p50)}</td>
                <td className="num">{ms(one.ms.p90)}</td>
                <td className="num">{ms(one.ms.p95)}</td>
                <td className="num">{ms(one.ms.p99)}</td>
              </tr>
            ))}
          </tbody>
        </table>
      ) : (
        <p className="text-soft">Nothing was answered in this span.</p>
      )}
      {found.batch_rows.p50 !== null && (
        <p className="mt-2 text-small text-faint">
          Rows that ran together: {count(found.batch_rows.p50!)} at the median, {count(found.batch_rows.p99!)} at p99.
        </p>
      )}
    </Card>
  );
}

function Errors({ found }: { found: TrafficPage }) {
  const all = Object.entries(found.statuses).sort(([, a], [, b]) => b - a);
  const calls = all.reduce((sum, [, many]) => sum + many, 0);
  return (
    <Card title="By status">
      <table className="figures w-full">
        <tbody>
          {all.map(([status, many]) => (
            <tr key={status} className={Number(status) >= 500 ? "text-brick" : ""}>
              <th scope="row" className="font-mono">
                {status}
              </th>
              <td className="w-full text-soft">
                {STATUS[status] ?? (Number(status) >= 500 ? "failed" : Number(status) >= 400 ? "refused" : "answered")}
              </td>
              <td className="num">{count(many)}</td>
              <td className="num text-soft">{percent(many / Math.max(1, calls))}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {!all.length && <p className="text-soft">No calls.</p>}
    </Card>
  );
}

const STATUS: Record<string, string> = {
  "200": "answered",
  "400": "no readable body",
  "413": "body too large",
  "422": "a value does not fit",
  "429": "the token's rate",
  "502": "the model failed",
  "503": "no room, or down",
  "504": "not answered in time",
};

function Budgets({ found }: { found: TrafficPage }) {
  return (
    <Card title="Promises to callers" className="mt-4">
      <table className="figures w-full">
        <thead>
          <tr>
            <th>promise</th>
            <th className="w-full">error budget</th>
            <th className="num">objective</th>
            <th className="num">calls</th>
            <th className="num">bad</th>
            <th className="num">left</th>
            <th className="num">burns</th>
          </tr>
        </thead>
        <tbody>
          {found.budgets.map((one) => (
            <tr key={one.name}>
              <th scope="row">{one.name}</th>
              <td>
                <Bar
                  className={`h-3! ${one.spent > 1 ? "bg-brick-wash! outline outline-brick" : ""}`}
                  tone="live"
                  part={1 - one.spent}
                  label={`error budget of ${one.name} that is left`}
                />
              </td>
              <td className="num">{one.objective} %</td>
              <td className="num">{count(one.calls)}</td>
              <td className="num">{count(one.bad)}</td>
              <td className={`num ${one.spent > 1 ? "font-semibold text-brick" : ""}`}>
                {one.spent > 1 ? `overspent ${one.spent.toFixed(1)} ×` : percent(1 - one.spent)}
              </td>
              <td className={`num ${one.burn > 6 ? "font-semibold text-brick" : ""}`}>{one.burn.toFixed(1)} ×</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
