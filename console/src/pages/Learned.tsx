// What a model has learned: how good it is and where it is not, what it looks at, and how its answer depends on that.
import { CalibrationChart } from "../charts/CalibrationChart";
import { CurveChart } from "../charts/CurveChart";
import type { Insight, VersionPage } from "../api/client";
import { Bar } from "../parts/Bar";
import { Card, Mono } from "../parts/basics";
import { Tip } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { count, percent, short } from "../words";

const SHOWN = 10;
const CURVES = 3;

/** Nothing where packing did not measure it. */
export function Learned({ page }: { page: VersionPage }) {
  const insight = page.insight;
  if (!insight) return null;
  return (
    <>
      <Card
        title="How good it is"
        className="mt-6"
        aside={
          <span className={`text-small ${insight.held_out ? "text-faint" : "text-brick"}`}>
            on {count(insight.rows)} rows {insight.held_out ? "that it was not fitted on" : "that it was fitted on: fresh rows go worse"}
          </span>
        }
      >
        <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,6fr)_auto] gap-6">
          <Quality insight={insight} />
          <Slices insight={insight} />
          {insight.calibration && <Scores insight={insight} />}
        </div>
      </Card>
      {insight.importance.length > 0 && (
        <Card title="What it looks at" className="mt-4" aside={<Pair insight={insight} />}>
          <div className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)] gap-8">
            <Importance insight={insight} />
            <Curves insight={insight} />
          </div>
          {insight.left_out && <p className="mt-3 text-small text-faint">Left out: {insight.left_out}.</p>}
        </Card>
      )}
    </>
  );
}

type Figure = Insight["quality"];
const value = (insight: Insight, figure: number): string =>
  insight.kind === "labels" ? `${(100 * figure).toFixed(1)} %` : `${short(figure)}${insight.unit ? ` ${insight.unit}` : ""}`;
const span = (insight: Insight, { low, high }: Figure): string => {
  if (low === null || high === null) return "";
  const first = insight.kind === "labels" ? (100 * low).toFixed(1) : short(low);
  return `${first} to ${value(insight, high)}`;
};

function Quality({ insight }: { insight: Insight }) {
  const labels = insight.kind === "labels";
  return (
    <div>
      <p className="text-title font-semibold">
        {value(insight, insight.quality.value)} <span className="text-base font-normal">{labels ? "right" : "off on average"}</span>
      </p>
      <p className="text-soft">
        <Tip text="95 % of such intervals hold the figure of all rows like these.">
          <span>{span(insight, insight.quality)}</span>
        </Tip>
        ; {labels ? "always the commonest label" : "always the median"}: {value(insight, insight.by_chance)}
      </p>
      {insight.confusion && <ConfusionTable confusion={insight.confusion} />}
      {insight.residuals && (
        <p className="mt-3 text-soft">
          Root mean square {short(insight.residuals.root_mean_square)}; on average {short(Math.abs(insight.residuals.bias.value))}{" "}
          {insight.residuals.bias.value < 0 ? "too low" : "too high"}.
        </p>
      )}
    </div>
  );
}

function ConfusionTable({ confusion }: { confusion: NonNullable<Insight["confusion"]> }) {
  const labels = confusion.labels.slice(0, 6);
  return (
    <table className="figures mt-3 w-full" aria-label="confusion">
      <thead>
        <tr>
          <th scope="col">true ↓ answered →</th>
          {labels.map((label) => (
            <th key={label} scope="col" className="num">
              {label}
            </th>
          ))}
        </tr>
      </thead>
      <tbody>
        {labels.map((label, at) => {
          const line = confusion.counts[at]!;
          const total = line.reduce((sum, one) => sum + one, 0);
          return (
            <tr key={label}>
              <th scope="row" className="font-normal">
                {label}
              </th>
              {labels.map((answered, to) => (
                <td
                  key={answered}
                  className={`num ${at === to ? "font-semibold" : line[to]! / Math.max(1, total) > 0.2 ? "text-brick" : ""}`}
                >
                  {count(line[to]!)}
                </td>
              ))}
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

type Slice = Insight["slices"][number];

function Slices({ insight }: { insight: Insight }) {
  if (!insight.slices.length) return <p className="text-soft">No field of choices to look at parts of the rows by.</p>;
  const worse = (slice: Slice): number =>
    insight.kind === "labels" ? insight.quality.value - slice.figure.value : slice.figure.value - insight.quality.value;
  const rows = [...insight.slices].sort((one, other) => worse(other) - worse(one)).slice(0, 8);
  const columns: Column<Slice>[] = [
    { id: "rows where", grow: true, value: (slice) => `${slice.by} ${slice.value}`, className: "font-mono" },
    {
      id: insight.kind === "labels" ? "right" : "off by",
      numeric: true,
      width: 72,
      value: (slice) => slice.figure.value,
      cell: (slice) => value(insight, slice.figure.value),
      className: (slice) => (surelyWorse(insight, slice) ? "font-semibold text-brick" : ""),
    },
    { id: "between", width: 124, value: (slice) => span(insight, slice.figure), className: "text-soft" },
    { id: "rows", numeric: true, width: 60, value: (slice) => slice.figure.of, cell: (slice) => count(slice.figure.of) },
  ];
  return <DataTable label="quality by slice" columns={columns} rows={rows} rowKey={(slice) => `${slice.by} ${slice.value}`} />;
}

const surelyWorse = ({ kind, quality }: Insight, { figure }: Slice): boolean =>
  kind === "labels" ? figure.high !== null && figure.high < quality.value : figure.low !== null && figure.low > quality.value;

function Scores({ insight }: { insight: Insight }) {
  const found = insight.calibration!;
  const points = found.bins.map((bin) => ({
    expected: bin.expected,
    came: bin.came.value,
    low: bin.came.low ?? bin.came.value,
    high: bin.came.high ?? bin.came.value,
    rows: bin.came.of,
  }));
  return (
    <div className="w-60">
      <CalibrationChart title="Calibration" unit={`error ${short(found.error)}`} points={points} size={180} />
    </div>
  );
}

function Importance({ insight }: { insight: Insight }) {
  const most = Math.max(...insight.importance.map((one) => one.worse.value), 1e-9);
  const shown = insight.importance.slice(0, SHOWN);
  const rest = insight.importance.length - shown.length;
  return (
    <div>
      <p className="mb-2 text-small text-faint">So much of what it does better than chance is lost with a field's values of other rows.</p>
      <table className="figures w-full" aria-label="importance of fields">
        <tbody>
          {shown.map((one) => {
            const clear = one.worse.low !== null && one.worse.low > 0;
            return (
              <tr key={one.field}>
                <th scope="row" className={`font-mono font-normal whitespace-nowrap ${clear ? "" : "text-faint"}`}>
                  {one.field}
                </th>
                <td className="w-[45%]">
                  <Bar part={one.worse.value / most} label={`importance of ${one.field}`} tone={clear ? "live" : "held"} />
                </td>
                <td className={`num whitespace-nowrap ${clear ? "" : "text-faint"}`}>
                  <Tip text={one.worse.low === null ? "one row" : `${percent(one.worse.low)} to ${percent(one.worse.high)}`}>
                    <span>{percent(one.worse.value)}</span>
                  </Tip>
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
      {rest > 0 && <p className="mt-1 text-small text-faint">and {count(rest)} more fields, of less importance</p>}
    </div>
  );
}

type Curve = Insight["curves"][number];

function Curves({ insight }: { insight: Insight }) {
  const part = insight.kind === "labels";
  return (
    <div className="grid gap-4">
      {insight.curves.slice(0, CURVES).map((curve) =>
        curve.values.every((one) => typeof one === "number") ? (
          <CurveChart
            key={curve.field}
            title={curve.field}
            unit={`${insight.curve_of}: mean, and the middle half of the rows`}
            points={curve.values.map((one, at) => ({
              x: Number(one),
              y: curve.mean[at]!,
              rows: curve.rows[at]!,
              low: curve.low[at]!,
              high: curve.high[at]!,
            }))}
            part={part}
            height={150}
          />
        ) : (
          <ByValue key={curve.field} insight={insight} curve={curve} />
        ),
      )}
    </div>
  );
}

function ByValue({ insight, curve }: { insight: Insight; curve: Curve }) {
  const most = Math.max(...curve.mean.map(Math.abs), 1e-9);
  return (
    <section aria-label={curve.field}>
      <h3 className="font-semibold">
        {curve.field} <span className="text-small font-normal text-faint">{insight.curve_of}, mean</span>
      </h3>
      <table className="figures w-full">
        <tbody>
          {curve.values.slice(0, 8).map((one, at) => (
            <tr key={String(one)}>
              <th scope="row" className="font-normal">
                <Mono>{String(one)}</Mono>
              </th>
              <td className="w-[50%]">
                <Bar
                  part={Math.abs(curve.mean[at]!) / (insight.kind === "labels" ? Math.max(most, 0.01) : most)}
                  label={`${curve.field} ${String(one)}`}
                  tone="live"
                />
              </td>
              <td className="num">{value(insight, curve.mean[at]!)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

function Pair({ insight }: { insight: Insight }) {
  const pair = insight.interaction;
  if (!pair) return null;
  return (
    <span className="text-small text-faint">
      most together: <Mono>{pair.first}</Mono> and <Mono>{pair.second}</Mono>, {percent(pair.strength)} of their joint effect
    </span>
  );
}
