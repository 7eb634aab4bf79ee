import { useMemo } from "react";
import { useSearchParams } from "react-router";
import type { EndpointPage, QualityFigure, VersionQuality } from "../api/client";
import { useQuality } from "../api/queries";
import { Card, Segments, Snippets, Trouble, Waiting } from "../parts/basics";
import { CalibrationChart } from "../charts/CalibrationChart";
import { TimeChart } from "../charts/TimeChart";
import { VersionLink } from "../parts/VersionLink";
import { count, percent, short } from "../words";

const DAYS = { day: 1, "7 days": 7, "30 days": 30, "90 days": 90 } as const;
const NAMES = Object.keys(DAYS) as (keyof typeof DAYS)[];

/** Were the answers right, as far as the truth is known? */
export function OutcomesView({ page }: { page: EndpointPage }) {
  const [params, setParams] = useSearchParams();
  const span = NAMES.find((one) => one === params.get("span")) ?? "30 days";
  const quality = useQuality(page.name, DAYS[span]);
  const found = quality.data;
  if (quality.error && !found) return <Trouble error={quality.error} again={() => void quality.refetch()} />;
  if (!found) return <Waiting height={480} label="loading outcomes" />;
  return (
    <>
      <div className="mt-4 flex flex-wrap items-center justify-between gap-x-4 gap-y-2">
        <p className="text-lead text-soft">{found.summary}</p>
        <Segments label="span" all={NAMES} chosen={span} onChoose={(one) => setParams(one === "30 days" ? {} : { span: one })} />
      </div>
      {found.versions.map((one, at) => (
        <OneVersion
          key={`${one.version} ${one.shadow}`}
          one={one}
          first={at === 0}
          since={Date.parse(found.since)}
          until={Date.parse(found.until)}
        />
      ))}
      <Card title="Tell the truth" className="mt-4 max-w-[760px]">
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
    </>
  );
}

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
          <div className="mt-2 h-2 rounded-small bg-sunk" title="how much is known">
            <div className="h-2 rounded-small bg-slate-fill" style={{ width: `${(100 * one.known) / Math.max(1, one.answered)}%` }} />
          </div>
          <p className="text-small text-faint">how much is known</p>
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
      <div className="mt-4 flex flex-wrap items-start gap-10">
        {numbers ? <Numbers one={one} /> : <Labels one={one} />}
        {one.calibration && <Calibration one={one} />}
        {one.slices.length > 0 && <Slices one={one} />}
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

function Labels({ one }: { one: VersionQuality }) {
  return (
    <table className="figures">
      <thead>
        <tr>
          <th>label</th>
          <th className="num">precision</th>
          <th className="num">recall</th>
          <th className="num">true</th>
        </tr>
      </thead>
      <tbody>
        {one.labels.map((label) => (
          <tr key={label.label}>
            <td className="font-mono">{label.label}</td>
            <td className="num" title={label.precision ? interval(label.precision, false) : undefined}>
              {percent(label.precision?.value)}
            </td>
            <td className="num" title={label.recall ? interval(label.recall, false) : undefined}>
              {percent(label.recall?.value)}
            </td>
            <td className="num text-soft">{count(label.true)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

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
    <div className="w-[340px]">
      <CalibrationChart title="Calibration" unit={`error ${short(found.error)}, Brier ${short(found.brier)}`} points={points} />
    </div>
  );
}

function Slices({ one }: { one: VersionQuality }) {
  const numbers = one.kind === "numbers";
  return (
    <table className="figures">
      <thead>
        <tr>
          <th>furthest from the whole</th>
          <th className="num">{numbers ? "error" : "right"}</th>
          <th className="num">rows</th>
        </tr>
      </thead>
      <tbody>
        {one.slices.slice(0, 6).map((slice) => (
          <tr key={`${slice.by} ${slice.value}`}>
            <td className="font-mono">
              {slice.by} {slice.value}
            </td>
            <td className="num" title={interval(slice.figure, numbers)}>
              {numbers ? short(slice.figure.value) : percent(slice.figure.value)}
            </td>
            <td className="num text-soft">{count(slice.figure.of)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
