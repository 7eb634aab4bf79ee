import type { CellsPage } from "../api/client";
import { useFigure } from "../api/queries";
import { count, percent, short, when } from "../words";
import { Trouble, Waiting } from "./basics";
import { FILLS } from "./Verdict";

const HEIGHT = 160;

/** One figure: training in slate-blue, the window in amber, drawn over each other, cell by cell; and how large its change was over time. */
export function Cells({ endpoint, figure, version, at, summary }: { endpoint: string; figure: string; version: string; at: string | null; summary: string }) {
  const found = useFigure(endpoint, figure, version, at);
  if (found.error && !found.data) return <Trouble error={found.error} />;
  if (!found.data) return <Waiting height={HEIGHT + 60} label={`loading ${figure}`} />;
  const page = found.data;
  return (
    <div className="pb-3">
      <p className="py-2 whitespace-normal text-soft">
        <span className="font-mono text-ink">{page.name}</span> {summary === "as in training" ? "looks as in training" : `is ${summary}`}. <span className="mr-1 inline-block h-2 w-3 bg-slate-fill" aria-hidden /> training,{" "}
        {count(page.reference_rows)} rows; <span className="mr-1 inline-block h-2 w-3 border border-amber bg-amber-fill/60" aria-hidden /> the window, {count(page.window_rows)} rows.
        {(page.reference_missing > 0 || (page.window_missing ?? 0) > 0) && ` Missing: ${percent(page.reference_missing)} in training, ${percent(page.window_missing)} now.`}
      </p>
      {page.numbers ? <Numbers page={page} /> : <Choices page={page} />}
      {page.history.length > 1 && <Past page={page} />}
    </div>
  );
}

/** Cells between the quantiles of training, as densities: the width of a bar is its range, the area its rows. */
function Numbers({ page }: { page: CellsPage }) {
  const [low, high] = page.range ?? [0, 1];
  const inner = page.edges;
  const ends = [Math.min(low!, inner[0] ?? low!), ...inner, Math.max(high!, inner[inner.length - 1] ?? high!)];
  const from = ends[0]!;
  const span = ends[ends.length - 1]! - from || 1;
  const width = 720;
  const x = (value: number): number => ((value - from) / span) * width;
  const density = (shares: number[]): number[] => shares.map((share, cell) => share / Math.max(ends[cell + 1]! - ends[cell]!, span / 120));
  const before = density(page.reference);
  const now = density(page.window);
  const most = Math.max(...before, ...now, 1e-12);
  const bar = (values: number[], cell: number): { x: number; width: number; y: number; height: number } => {
    const left = x(ends[cell]!);
    const height = (values[cell]! / most) * (HEIGHT - 20);
    return { x: left, width: Math.max(2, x(ends[cell + 1]!) - left - 1), y: HEIGHT - height, height };
  };
  return (
    <div className="max-w-[760px]">
      <svg viewBox={`0 0 ${width} ${HEIGHT + 18}`} className="w-full" role="img" aria-label={`${page.name}: training and window`}>
        {before.map((_, cell) => (
          <rect key={`r${cell}`} {...bar(before, cell)} fill="var(--slate-fill)" />
        ))}
        {now.map((_, cell) => (
          <rect key={`w${cell}`} {...bar(now, cell)} fill="var(--amber-fill)" fillOpacity={0.45} stroke="var(--amber)" strokeWidth={1}>
            <title>{`${short(ends[cell]!)} to ${short(ends[cell + 1]!)}: ${percent(page.reference[cell])} in training, ${percent(page.window[cell])} now`}</title>
          </rect>
        ))}
        <line x1={0} x2={width} y1={HEIGHT} y2={HEIGHT} stroke="var(--line)" />
        {[0, 0.25, 0.5, 0.75, 1].map((part) => (
          <text key={part} x={part * width} y={HEIGHT + 14} fontSize={11} fill="var(--faint)" textAnchor={part === 0 ? "start" : part === 1 ? "end" : "middle"}>
            {part === 0 ? `≤ ${short(from)}` : part === 1 ? `≥ ${short(from + span)}` : short(from + part * span)}
          </text>
        ))}
      </svg>
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
  const shown = page.history.slice(-120);
  const most = Math.max(...shown.map((one) => one.size), 1e-9);
  return (
    <figure className="mt-2 max-w-[760px]">
      <figcaption className="text-small text-faint">
        how large its leading change was in each window, {when(shown[0]!.at)} to {when(shown[shown.length - 1]!.at)}
      </figcaption>
      <div className="mt-1 flex h-10 items-end gap-px" role="img" aria-label="size of the change over time">
        {shown.map((one) => (
          <div key={one.at} className="min-w-px flex-1" style={{ height: `${Math.max(4, (100 * one.size) / most)}%`, background: FILLS[one.state] }} title={`${when(one.at)}: ${one.state}, ${one.summary}`} />
        ))}
      </div>
    </figure>
  );
}
