import { useMemo } from "react";
import type { CellsPage } from "../api/client";
import { useFigure } from "../api/queries";
import { DistributionChart } from "../charts/DistributionChart";
import { binEnds } from "../charts/layout";
import { TimeChart } from "../charts/TimeChart";
import { count, percent } from "../words";
import { QueryState } from "./QueryState";

const HEIGHT = 160;

/** One figure: training in slate-blue, the window in amber, drawn over each other, bin by bin; and how large its change was over time. */
export function FeatureBins({
  endpoint,
  figure,
  version,
  at,
  summary,
}: {
  endpoint: string;
  figure: string;
  version: string;
  at: string | null;
  summary: string;
}) {
  const found = useFigure(endpoint, figure, version, at);
  return (
    <QueryState query={found} loading={figure} height={HEIGHT + 60}>
      {(page) => <Bins page={page} summary={summary} />}
    </QueryState>
  );
}

function Bins({ page, summary }: { page: CellsPage; summary: string }) {
  return (
    <div className="pb-3">
      <p className="py-2 whitespace-normal text-soft">
        <span className="font-mono text-ink">{page.name}</span> {summary === "as in training" ? "looks as in training" : `is ${summary}`}.{" "}
        <span className="mr-1 inline-block h-2 w-3 bg-slate-fill" aria-hidden /> training, {count(page.reference_rows)} rows;{" "}
        <span className="mr-1 inline-block h-2 w-3 border border-amber bg-amber-fill/60" aria-hidden /> the window,{" "}
        {count(page.window_rows)} rows.
        {(page.reference_missing > 0 || (page.window_missing ?? 0) > 0) &&
          ` Missing: ${percent(page.reference_missing)} in training, ${percent(page.window_missing)} now.`}
      </p>
      {page.numbers ? <Numbers page={page} /> : <Choices page={page} />}
      {page.history.length > 1 && <Past page={page} />}
    </div>
  );
}

/** Bins between the quantiles of training. */
function Numbers({ page }: { page: CellsPage }) {
  const ends = useMemo(() => binEnds(page.edges, page.range), [page.range, page.edges]);
  return (
    <div className="max-w-[760px]">
      <DistributionChart
        title={page.name}
        unit="the area of a bar is its share of the rows"
        ends={ends}
        reference={page.reference}
        window={page.window}
      />
    </div>
  );
}

function Choices({ page }: { page: CellsPage }) {
  const all = page.choices
    .map((name, at) => ({ name, before: page.reference[at] ?? 0, now: page.window[at] ?? 0 }))
    .filter((one) => one.before > 0 || one.now > 0)
    .sort((a, b) => Math.abs(b.now - b.before) - Math.abs(a.now - a.before))
    .slice(0, 12);
  const most = Math.max(...all.flatMap((one) => [one.before, one.now]), 1e-9);
  return (
    <table className="figures max-w-[760px]">
      <tbody>
        {all.map((one) => (
          <tr key={one.name}>
            <th scope="row" className="!pr-4 font-mono">
              {one.name}
            </th>
            <td className="w-full">
              <div className="h-2 bg-slate-fill" style={{ width: `${(100 * one.before) / most}%` }} />
              <div className="mt-px h-2 border border-amber bg-amber-fill/60" style={{ width: `${(100 * one.now) / most}%` }} />
            </td>
            <td className="num text-slate">{percent(one.before)}</td>
            <td className="num">{percent(one.now)}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How large the change was, window by window. */
function Past({ page }: { page: CellsPage }) {
  const { history } = page;
  const shown = history.slice(-120);
  const series = useMemo(
    () => [
      {
        name: "size",
        colour: "var(--amber-fill)",
        stepped: true,
        area: true,
        points: history.slice(-120).map((one) => ({ at: Date.parse(one.at), value: one.size })),
      },
    ],
    [history],
  );
  return (
    <div className="mt-3 max-w-[760px]">
      <TimeChart
        title="Size of its leading change"
        unit="in each window"
        height={92}
        since={Date.parse(shown[0]!.at)}
        until={Date.parse(shown[shown.length - 1]!.at)}
        series={series}
      />
    </div>
  );
}
