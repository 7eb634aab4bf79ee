import { createContext, type ReactNode, useContext, useEffect, useRef, useState } from "react";
import { short, when } from "../words";

export type Point = { at: number; value: number | null; low?: number | null; high?: number | null };
export type Series = { name: string; colour: string; points: Point[]; area?: boolean };
export type Mark = { at: number; name: string };
type Hover = { at: number | null; set: (at: number | null) => void };

const Shared = createContext<Hover>({ at: null, set: () => undefined });
const LEFT = 48;
const RIGHT = 44;
const TOP = 8;
const BOTTOM = 20;

/** Charts inside read the same moment at the same time. */
export function SameMoment({ children }: { children: ReactNode }) {
  const [at, set] = useState<number | null>(null);
  return <Shared.Provider value={{ at, set }}>{children}</Shared.Provider>;
}

/** Lines over time: y from 0, direct labels, changes of what is served as ticks, one reading for all charts of a page, and its numbers as a table. */
export function TimeChart({ title, unit, since, until, series, marks = [], limit, height = 132, top, step }: { title: string; unit: string; since: number; until: number; series: Series[]; marks?: Mark[]; limit?: { value: number; name: string }; height?: number; top?: number; step?: number }) {
  const box = useRef<HTMLDivElement>(null);
  const [width, setWidth] = useState(640);
  const hover = useContext(Shared);
  useEffect(() => {
    if (!box.current) return;
    const watch = new ResizeObserver(([entry]) => entry && setWidth(Math.max(240, entry.contentRect.width)));
    watch.observe(box.current);
    return () => watch.disconnect();
  }, []);
  const most = nice(Math.max(top ?? 0, limit?.value ?? 0, ...series.flatMap((one) => one.points.map((point) => Math.max(point.value ?? 0, point.high ?? 0)))));
  const x = (at: number): number => LEFT + ((at - since) / (until - since)) * (width - LEFT - RIGHT);
  const y = (value: number): number => TOP + (1 - Math.min(1, value / most)) * (height - TOP - BOTTOM);
  const gap = step ? 1.6 * step : Infinity;
  const read = hover.at !== null && hover.at >= since && hover.at <= until ? hover.at : null;
  return (
    <figure ref={box} className="min-w-0">
      <figcaption className="flex h-5 items-baseline justify-between gap-4 text-small">
        <span>
          <span className="font-semibold">{title}</span> <span className="text-faint">{unit}</span>
        </span>
        <span className="truncate text-soft" aria-live="off">
          {read !== null && `${when(read)}: ${series.map((one) => `${one.name} ${reading(nearest(one.points, read, step))}`).join(", ")}`}
        </span>
      </figcaption>
      <svg
        width={width}
        height={height}
        role="img"
        aria-label={`${title} over time`}
        onPointerMove={(event) => {
          const place = event.clientX - event.currentTarget.getBoundingClientRect().left;
          const at = since + ((place - LEFT) / (width - LEFT - RIGHT)) * (until - since);
          hover.set(at >= since && at <= until ? at : null);
        }}
        onPointerLeave={() => hover.set(null)}
      >
        {[0, 0.5, 1].map((part) => (
          <g key={part}>
            <line x1={LEFT} x2={width - RIGHT} y1={y(part * most)} y2={y(part * most)} stroke="var(--line)" strokeWidth={1} />
            <text x={LEFT - 6} y={y(part * most) + 4} textAnchor="end" fontSize={11} fill="var(--faint)">
              {short(part * most)}
            </text>
          </g>
        ))}
        {ticks(since, until, width).map((at) => (
          <text key={at} x={x(at)} y={height - 5} textAnchor="middle" fontSize={11} fill="var(--faint)">
            {tick(at, until - since)}
          </text>
        ))}
        {marks.map((mark, at) => (
          <g key={`${mark.at} ${mark.name}`}>
            <line x1={x(mark.at)} x2={x(mark.at)} y1={TOP} y2={height - BOTTOM} stroke="var(--slate)" strokeDasharray="2 3" />
            <path d={`M${x(mark.at)} ${height - BOTTOM}l-4 6h8z`} fill="var(--slate)">
              <title>{`${when(mark.at)}: ${mark.name}`}</title>
            </path>
            {/* names where there is room for them before the next */}
            {(at + 1 < marks.length ? x(marks[at + 1]!.at) : width) - x(mark.at) > 150 && (
              <text x={x(mark.at) + 4} y={TOP + 10} fontSize={11} fill="var(--slate)">
                {mark.name.length > 24 ? `${mark.name.slice(0, 23)}…` : mark.name}
              </text>
            )}
          </g>
        ))}
        {limit && (
          <>
            <line x1={LEFT} x2={width - RIGHT} y1={y(limit.value)} y2={y(limit.value)} stroke="var(--slate)" strokeWidth={1} strokeDasharray="6 3" />
            <text x={width - RIGHT + 4} y={y(limit.value) + 4} fontSize={11} fill="var(--slate)">
              {limit.name}
            </text>
          </>
        )}
        {series.map((one) => {
          const runs = parts(one.points, gap);
          const last = [...one.points].reverse().find((point) => point.value !== null);
          return (
            <g key={one.name}>
              {runs.map((run) => (
                <g key={run[0]!.at}>
                  {run.some((point) => point.high != null) && <path d={band(run, x, y)} fill={one.colour} opacity={0.2} />}
                  {one.area && <path d={`${line(run, x, y)}L${x(run[run.length - 1]!.at)} ${y(0)}L${x(run[0]!.at)} ${y(0)}z`} fill={one.colour} opacity={0.35} />}
                  {run.length > 1 ? <path d={line(run, x, y)} fill="none" stroke={one.colour} strokeWidth={1.5} /> : <circle cx={x(run[0]!.at)} cy={y(run[0]!.value ?? 0)} r={2} fill={one.colour} />}
                </g>
              ))}
              {last && series.length > 1 && (
                <text x={x(last.at) + 4} y={y(last.value!) + 4} fontSize={11} fill={one.colour}>
                  {one.name}
                </text>
              )}
            </g>
          );
        })}
        {read !== null && <line x1={x(read)} x2={x(read)} y1={TOP} y2={height - BOTTOM} stroke="var(--soft)" strokeWidth={1} />}
      </svg>
      <table className="sr-only">
        <caption>{title}</caption>
        <tbody>
          {series[0]?.points.slice(-48).map((point, at) => (
            <tr key={point.at}>
              <th scope="row">{when(point.at)}</th>
              {series.map((one) => (
                <td key={one.name}>{reading(one.points.slice(-48)[at])}</td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </figure>
  );
}

const reading = (point: Point | undefined): string => (point?.value == null ? "–" : short(point.value));

function nearest(points: Point[], at: number, step = Infinity): Point | undefined {
  let best: Point | undefined;
  for (const point of points) if (!best || Math.abs(point.at - at) < Math.abs(best.at - at)) best = point;
  return best && Math.abs(best.at - at) <= 1.5 * step ? best : undefined;
}

/** Runs of neighbouring points that have a value. */
function parts(points: Point[], gap: number): Point[][] {
  const out: Point[][] = [];
  let before: Point | undefined;
  for (const point of points) {
    if (point.value === null) {
      before = undefined;
      continue;
    }
    if (!before || point.at - before.at > gap) out.push([]);
    out[out.length - 1]!.push(point);
    before = point;
  }
  return out;
}

type Scale = (value: number) => number;
const line = (run: Point[], x: Scale, y: Scale): string => run.map((point, at) => `${at ? "L" : "M"}${x(point.at).toFixed(1)} ${y(point.value!).toFixed(1)}`).join("");
const band = (run: Point[], x: Scale, y: Scale): string =>
  `M${run.map((point) => `${x(point.at)} ${y(point.high ?? point.value!)}`).join("L")}L${[...run].reverse().map((point) => `${x(point.at)} ${y(point.low ?? point.value!)}`).join("L")}z`;

/** The next round number. */
function nice(value: number): number {
  if (value <= 0) return 1;
  const size = 10 ** Math.floor(Math.log10(value));
  return [1, 2, 4, 5, 10].map((part) => part * size).find((one) => one >= value * 0.999) ?? 10 * size;
}

const STEPS = [300, 600, 1_800, 3_600, 10_800, 21_600, 43_200, 86_400, 172_800, 604_800, 1_209_600].map((seconds) => seconds * 1_000);

/** Round moments of the reader's own clock. */
function ticks(since: number, until: number, width: number): number[] {
  const step = STEPS.find((one) => ((until - since) / one) * 72 < width) ?? STEPS[STEPS.length - 1]!;
  const zone = new Date(since).getTimezoneOffset() * 60_000;
  const out = [];
  for (let at = Math.ceil((since - zone) / step) * step + zone; at < until; at += step) out.push(at);
  return out;
}

const tick = (at: number, span: number): string =>
  span > 3 * 86_400_000 ? new Date(at).toLocaleDateString("en", { day: "numeric", month: "short" }) : new Date(at).toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit" });
