import { useMemo } from "react";
import { Link } from "react-router";
import type { EndpointPage, QualityFigure, VersionQuality } from "../api/client";
import { useQuality } from "../api/queries";
import { Bar } from "../parts/Bar";
import { Card, Snippets } from "../parts/basics";
import { CalibrationChart } from "../charts/CalibrationChart";
import { PageTime } from "../charts/PageTime";
import { TimeChart } from "../charts/TimeChart";
import { QueryState } from "../parts/QueryState";
import { Tip } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { TimeControl } from "../time/TimeControl";
import { usePageParams } from "../usePageParams";
import { usePageSpan } from "../time/usePageSpan";
import { VersionLink } from "../parts/VersionLink";
import { count, percent, short } from "../words";

const SPANS = ["day", "week", "30 days", "90 days"] as const;

/** Were the answers right, as far as the truth is known? */
export function OutcomesView({ page }: { page: EndpointPage }) {
  const span = usePageSpan(SPANS, "30 days");
  const [params, setParam] = usePageParams();
  const at = params.get("at") ?? undefined;
  const quality = useQuality(page.name, span.hours, span.fixed, at);
  return (
    <>
      <div className="mt-4 flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <p className="text-lead text-soft">
          {at && (
            <>
              At <span className="font-mono">{at}</span> (
              <button type="button" className="underline" onClick={() => setParam("at", null)}>
                all
              </button>
              ):{" "}
            </>
          )}
          {quality.data?.summary ?? <>&nbsp;</>}
        </p>
        <TimeControl span={span} />
      </div>
      <QueryState query={quality} loading="outcomes" height={480}>
        {(found) => (
          <PageTime zoom={span.fixed} setZoom={span.setFixed}>
            {found.versions.map((one, at) => (
              <OneVersion
                key={`${one.version} ${one.shadow}`}
                one={one}
                first={at === 0}
                since={Date.parse(found.since)}
                until={Date.parse(found.until)}
              />
            ))}
          </PageTime>
        )}
      </QueryState>
      <div className="mt-4 grid grid-cols-2 items-start gap-4 *:min-w-0">
        <Tell page={page} />
        <Guard page={page} />
      </div>
    </>
  );
}

const Tell = ({ page }: { page: EndpointPage }) => (
  <Card title="Tell the truth" term="outcome">
    <p className="text-soft">Later, in part, and again if it changes: what is told twice counts once.</p>
    <Snippets
      id="how to tell"
      all={[
        {
          name: "Python",
          text: `answer = client.predict("${page.name}", row)\n…\nclient.record_outcome("${page.name}", answer.request_id, "${truth(page)}")`,
        },
        {
          name: "Command",
          text: `lamppost outcome ${page.name} REQUEST_ID ${truth(page)}\nlamppost outcome ${page.name} --file outcomes.csv          # request_id,truth\nlamppost outcome ${page.name} --file outcomes.csv --key ${page.inputs[0]?.name ?? "FIELD"}`,
        },
      ]}
    />
  </Card>
);

/** What raises an alert about the quality of answers, and how to set it. */
function Guard({ page }: { page: EndpointPage }) {
  const rule = page.setup.monitoring?.rules?.find((one) => one.on === "quality");
  return (
    <Card title="Be told when answers go bad">
      <p className="text-soft">
        {rule
          ? `An alert is raised when less than ${rule.above ?? USUAL_QUALITY} % of the known answers of ${rule.minutes} minutes are right.`
          : "No rule looks at the quality of these answers yet."}{" "}
        <Link to="/alerts" className="underline">
          Alerts
        </Link>
      </p>
      <Snippets
        id="how to be told"
        all={[
          {
            name: "Command",
            text: `lamppost setup ${page.name} > setup.toml\nlamppost setup ${page.name} --file setup.toml    # with the rule added`,
          },
          {
            name: "The rule",
            text: `[[monitoring.rules]]\non = "quality"\nabove = ${rule?.above ?? USUAL_QUALITY}    # percent right\nminutes = 1440`,
          },
        ]}
      />
    </Card>
  );
}

const USUAL_QUALITY = 80;

const truth = (page: EndpointPage): string => page.answers.find((one) => one.kind === "choice")?.choices?.[0] ?? "12.5";

function OneVersion({ one, first, since, until }: { one: VersionQuality; first: boolean; since: number; until: number }) {
  const numbers = one.kind === "numbers";
  const main = numbers ? one.absolute_error : one.accuracy;
  const scale = numbers ? 1 : 100;
  return (
    <Card
      title={numbers ? "Absolute error" : "Accuracy"}
      className="mt-4"
      aside={
        <span className="text-soft">
          <VersionLink name={one.version.split(", ")[0]!} live={first && !one.shadow} /> {one.shadow && "as a shadow, "}
          {count(one.known)} of {count(one.answered)} known ({percent(one.known / Math.max(1, one.answered))}), told {late(one.late_s)}{" "}
          later
        </span>
      }
    >
      <div className="grid grid-cols-[200px_minmax(0,1fr)] gap-6">
        <div>
          <p className="text-title font-semibold">{main ? (numbers ? short(main.value) : percent(main.value)) : "–"}</p>
          <p className="text-soft">{main && interval(main, numbers)}</p>
          <Bar className="mt-3" part={one.known / Math.max(1, one.answered)} label="how much is known" />
          <p className="mt-1 text-small text-faint">
            {percent(one.known / Math.max(1, one.answered))} of the answers are known, of {count(one.callers)}{" "}
            {one.callers === 1 ? "caller" : "callers"}
          </p>
          {one.told_otherwise && (
            <p className="mt-2 rounded-control bg-amber-wash p-2 text-small">
              <b>{one.told_otherwise.label}</b> is {percent(one.told_otherwise.told)} of the known answers and{" "}
              {percent(one.told_otherwise.answered)} of all: outcomes are not told of answers as they were given.
              {one.told_otherwise.weighted !== null && ` Weighed by what was answered: ${percent(one.told_otherwise.weighted)} right.`}
            </p>
          )}
        </div>
        <TimeChart
          title={numbers ? "Absolute error" : "Accuracy"}
          unit={numbers ? "by when it was answered, with 95 % intervals" : "%, by when it was answered, with 95 % intervals"}
          since={since}
          until={until}
          top={numbers ? undefined : 100}
          series={[
            {
              name: numbers ? "error" : "right",
              colour: "var(--amber-fill)",
              points: one.over_time
                .filter((then) => then.figure)
                .map((then) => ({
                  at: Date.parse(then.at),
                  value: scale * then.figure!.value,
                  low: then.figure!.low == null ? null : scale * then.figure!.low,
                  high: then.figure!.high == null ? null : scale * then.figure!.high,
                })),
            },
          ]}
        />
      </div>
      <div className="mt-6 grid grid-cols-3 items-start gap-8 border-t border-line pt-4 *:min-w-0">
        <section>
          <h3 className="mb-1 font-semibold">{numbers ? "Errors" : "Labels"}</h3>
          {numbers ? <Numbers one={one} /> : <Labels one={one} />}
        </section>
        {one.calibration && <Calibration one={one} />}
        {one.slices.length > 0 && (
          <section>
            <h3 className="mb-1 font-semibold">Where it is furthest from the whole</h3>
            <Slices one={one} />
          </section>
        )}
      </div>
    </Card>
  );
}

const late = (seconds: number): string =>
  seconds > 172_800
    ? `${Math.round(seconds / 86_400)} days`
    : seconds > 7_200
      ? `${Math.round(seconds / 3_600)} hours`
      : `${Math.round(seconds / 60)} minutes`;
const interval = (one: QualityFigure, numbers: boolean): string =>
  one.low === null || one.high === null
    ? "one outcome"
    : numbers
      ? `${short(one.low)} to ${short(one.high)}`
      : `${percent(one.low)} to ${percent(one.high)}`;

type Label = VersionQuality["labels"][number];
const LABEL_COLUMNS: Column<Label>[] = [
  { id: "label", grow: true, value: (one) => one.label, className: "font-mono" },
  {
    id: "precision",
    numeric: true,
    value: (one) => one.precision?.value,
    cell: (one) => <Estimate figure={one.precision} numbers={false} />,
  },
  { id: "recall", numeric: true, value: (one) => one.recall?.value, cell: (one) => <Estimate figure={one.recall} numbers={false} /> },
  { id: "true", numeric: true, value: (one) => one.true, cell: (one) => count(one.true), className: "text-soft" },
];

const Labels = ({ one }: { one: VersionQuality }) => (
  <DataTable label="labels" columns={LABEL_COLUMNS} rows={one.labels} rowKey={(label) => label.label} height={280} />
);

/** A figure, with its interval for the pointer and the keyboard. */
const Estimate = ({ figure, numbers }: { figure: QualityFigure | null | undefined; numbers: boolean }) => (
  <Tip text={figure ? `95 % interval: ${interval(figure, numbers)}, of ${count(figure.of)}` : null}>
    <span>{figure ? (numbers ? short(figure.value) : percent(figure.value)) : "–"}</span>
  </Tip>
);

function Numbers({ one }: { one: VersionQuality }) {
  const rows: [string, string][] = [
    ["root mean square", one.root_mean_square == null ? "–" : short(one.root_mean_square)],
    ["bias", one.bias ? `${short(one.bias.value)} (${interval(one.bias, true)})` : "–"],
    ["within a tenth of training's spread", percent(one.near?.value)],
  ];
  return (
    <table className="figures">
      <tbody>
        {rows.map(([name, value]) => (
          <tr key={name}>
            <th scope="row">{name}</th>
            <td className="num">{value}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function Calibration({ one }: { one: VersionQuality }) {
  const found = one.calibration!;
  const points = useMemo(
    () =>
      found.bins.map((bin) => ({
        expected: bin.expected,
        came: bin.came.value,
        low: bin.came.low ?? 0,
        high: bin.came.high ?? 1,
        rows: bin.came.of,
      })),
    [found.bins],
  );
  return (
    <div className="max-w-[380px]">
      <CalibrationChart title="Calibration" unit={`error ${short(found.error)}, Brier ${short(found.brier)}`} points={points} />
    </div>
  );
}

type Slice = VersionQuality["slices"][number];

function Slices({ one }: { one: VersionQuality }) {
  const numbers = one.kind === "numbers";
  const columns: Column<Slice>[] = [
    { id: "rows where", grow: true, value: (slice) => `${slice.by} ${slice.value}`, className: "font-mono" },
    {
      id: numbers ? "error" : "right",
      numeric: true,
      value: (slice) => slice.figure.value,
      cell: (slice) => <Estimate figure={slice.figure} numbers={numbers} />,
    },
    { id: "rows", numeric: true, value: (slice) => slice.figure.of, cell: (slice) => count(slice.figure.of), className: "text-soft" },
  ];
  return (
    <DataTable
      label="slices"
      columns={columns}
      rows={one.slices.slice(0, 8)}
      rowKey={(slice) => `${slice.by} ${slice.value}`}
      height={280}
    />
  );
}
