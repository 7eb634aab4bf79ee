// Values over time: y from 0, names at the ends of lines, changes and alerts as marks, one reading for all charts of a page.
import { useMemo, useRef } from "react";
import uPlot from "uplot";
import { short, when } from "../words";
import { ChartFrame } from "./ChartFrame";
import { clockTicks } from "./clockTicks";
import { colourOf, withOpacity, FONT } from "./colours";
import { alignSeries, nearestIndex, niceTop, placeMarks, type Point, spreadLabels } from "./layout";
import { usePageTime } from "./PageTime";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

export type { Point } from "./layout";
export type Series = { name: string; colour: string; points: Point[]; area?: boolean; stepped?: boolean };
export type Mark = { at: number; name: string; kind?: "change" | "alert" };
export type Limit = { value: number; name: string };

const LEFT = 48;
const RIGHT = 64;
const AXIS = 24;
const LABEL = 13;
const ROWS = 2;

type Props = {
  title: string;
  unit: string;
  since: number;
  until: number;
  series: Series[];
  marks?: Mark[];
  limit?: Limit;
  height?: number;
  top?: number;
  step?: number;
};

/**
 * since, until : the span that is drawn, in milliseconds. limit : a thin line with its value. top : the least upper end of the axis.
 * step : milliseconds between neighbours; where more are missing the line has a gap.
 */
export function TimeChart({ title, unit, since, until, series, marks = [], limit, height = 148, top, step }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const { moment, readMoment, zoom, setZoom } = usePageTime();
  const gap = step ? 1.6 * step : Infinity;
  const { times, data, most } = useMemo(() => {
    const aligned = alignSeries(
      series.map((line) => line.points),
      gap,
    );
    const bands = series.filter(hasBand).flatMap((line) => {
      const known = new Map(line.points.map((point) => [point.at, point]));
      return [aligned.times.map((at) => known.get(at)?.high ?? null), aligned.times.map((at) => known.get(at)?.low ?? null)];
    });
    const values = [...aligned.values, ...bands];
    const highest = Math.max(top ?? 0, limit?.value ?? 0, ...values.flatMap((column) => column.map((value) => value ?? 0)));
    return { times: aligned.times, data: [aligned.times.map((at) => at / 1_000), ...values] as uPlot.AlignedData, most: niceTop(highest) };
  }, [series, gap, limit?.value, top]);
  const inside = marks.filter((mark) => mark.at >= since && mark.at <= until);
  const shape = JSON.stringify([
    since,
    until,
    most,
    height,
    limit,
    series.map((line) => [line.name, line.colour, line.area, line.stepped, hasBand(line)]),
  ]);

  const options = (width: number): uPlot.Options => {
    const faint = colourOf("var(--faint)");
    const grid = { stroke: colourOf("var(--line)"), width: 1 };
    const banded = series.filter(hasBand);
    return {
      width,
      height,
      padding: [inside.length ? ROWS * LABEL + 4 : 8, RIGHT, 0, 0],
      legend: { show: false },
      scales: { x: { time: true, range: () => [since / 1_000, until / 1_000] }, y: { range: () => [0, most] } },
      axes: [
        { stroke: faint, font: FONT, size: AXIS, gap: 4, grid: { show: false }, ticks: { show: false }, values: clockTicks, space: 72 },
        {
          stroke: faint,
          font: FONT,
          size: LEFT,
          gap: 6,
          grid,
          ticks: { show: false },
          splits: () => [0, most / 2, most],
          values: (_, splits) => splits.map(short),
        },
      ],
      series: [
        {},
        ...series.map((line) => ({
          stroke: colourOf(line.colour),
          width: 1.5,
          paths: line.stepped ? uPlot.paths.stepped!({ align: 1 }) : undefined,
          fill: line.area ? withOpacity(line.colour, 0.35) : undefined,
          points: { show: true, filter: isolatedPoints, size: 5, fill: colourOf(line.colour) },
        })),
        ...banded.flatMap(() => [
          { stroke: "transparent", points: { show: false } },
          { stroke: "transparent", points: { show: false } },
        ]),
      ],
      bands: banded.map((line, at) => ({
        series: [series.length + 1 + 2 * at, series.length + 2 + 2 * at],
        fill: withOpacity(line.colour, 0.2),
      })),
      cursor: {
        drag: { x: true, y: false, setScale: false },
        points: { show: false },
        x: false,
        y: false,
        bind: { dblclick: () => () => (setZoom(null), null) },
      },
      hooks: {
        setCursor: [
          (plot) =>
            readMoment(plot.cursor.left !== undefined && plot.cursor.left >= 0 ? plot.posToVal(plot.cursor.left, "x") * 1_000 : null),
        ],
        setSelect: [
          (plot) => {
            if (plot.select.width < 6) return;
            setZoom({
              since: plot.posToVal(plot.select.left, "x") * 1_000,
              until: plot.posToVal(plot.select.left + plot.select.width, "x") * 1_000,
            });
            plot.setSelect({ left: 0, top: 0, width: 0, height: 0 }, false);
          },
        ],
        draw: [(plot) => drawLabels(plot, series, limit)],
      },
    };
  };
  usePlot(box, shape + inside.length, options, data);

  const index = moment === null ? -1 : nearestIndex(times, moment, step ? 1.5 * step : Infinity);
  const read = index >= 0 && times[index]! >= since && times[index]! <= until ? index : -1;
  const valueAt = (line: number, at: number): number | null => (data[line + 1] as (number | null)[])[at] ?? null;
  const reading =
    read < 0 ? undefined : `${when(times[read]!)}: ${series.map((line, at) => `${line.name} ${value(valueAt(at, read))}`).join(", ")}`;
  const place = (at: number): string => `calc(${LEFT}px + ${(at - since) / (until - since)} * (100% - ${LEFT + RIGHT}px))`;

  const shown = times.flatMap((at, position) =>
    at >= since && at <= until && series.some((_, line) => valueAt(line, position) !== null) ? [position] : [],
  );
  const slider = readable({
    label: `${title} over time`,
    reading,
    hint: "the arrow keys read the values, Escape shows the whole span",
    now: shown.indexOf(read),
    count: shown.length,
    read: (place) => {
      if (place >= 0) readMoment(times[shown[place]!]!);
      else if (moment === null && zoom) setZoom(null);
      else readMoment(null);
    },
  });

  const rows = times
    .map((at, position) => [new Date(at).toISOString(), ...series.map((_, line) => valueAt(line, position))])
    .filter((row) => row.slice(1).some((cell) => cell !== null));
  return (
    <ChartFrame
      title={title}
      unit={unit}
      reading={reading}
      picture={box}
      table={{ head: ["time", ...series.map((line) => line.name)], rows }}
    >
      <div className="relative" {...slider} onPointerLeave={() => readMoment(null)}>
        <div ref={box} style={{ height }} />
        <Marks marks={inside} since={since} until={until} box={box} height={height} />
        {read >= 0 && (
          <span
            aria-hidden
            className="pointer-events-none absolute top-0 w-px bg-soft"
            style={{ left: place(times[read]!), height: height - AXIS }}
          />
        )}
      </div>
    </ChartFrame>
  );
}

const hasBand = (line: Series): boolean => line.points.some((point) => point.high != null);
const value = (number: number | null): string => (number === null ? "–" : short(number));

/** Only a point without neighbours is drawn as one: the others are a line. */
function isolatedPoints(plot: uPlot, line: number, show: boolean): number[] | null {
  const values = plot.data[line] as (number | null | undefined)[];
  return show ? values.flatMap((one, at) => (one != null && values[at - 1] == null && values[at + 1] == null ? [at] : [])) : null;
}

/** Names at the ends of the lines and of the limit, none over another. */
function drawLabels(plot: uPlot, series: Series[], limit: Limit | undefined): void {
  const ratio = uPlot.pxRatio;
  const { left, top, width, height } = plot.bbox;
  const pen = plot.ctx;
  const labels: { text: string; colour: string; x: number; y: number }[] = [];
  if (series.length > 1)
    series.forEach((line, at) => {
      const values = plot.data[at + 1] as (number | null | undefined)[];
      const last = values.findLastIndex((one) => one != null);
      if (last < 0) return;
      const x = plot.valToPos(plot.data[0][last]!, "x", true);
      if (x >= left && x <= left + width + 1)
        labels.push({ text: line.name, colour: colourOf(line.colour), x, y: plot.valToPos(values[last]!, "y", true) });
    });
  pen.save();
  if (limit) {
    const y = plot.valToPos(limit.value, "y", true);
    pen.strokeStyle = colourOf("var(--slate)");
    pen.lineWidth = ratio;
    pen.setLineDash([6 * ratio, 3 * ratio]);
    pen.beginPath();
    pen.moveTo(left, y);
    pen.lineTo(left + width, y);
    pen.stroke();
    labels.push({ text: limit.name, colour: colourOf("var(--slate)"), x: left + width, y });
  }
  pen.font = FONT.replace("11px", `${11 * ratio}px`);
  pen.textBaseline = "middle";
  pen.textAlign = "left";
  const places = spreadLabels(
    labels.map((label) => label.y),
    LABEL * ratio,
    top,
    top + height,
  );
  labels.forEach((label, at) => {
    pen.fillStyle = label.colour;
    pen.fillText(label.text, Math.min(label.x, left + width) + 5 * ratio, places[at]!);
  });
  pen.restore();
}

/** Changes and alerts: a thin line each, with its name above the plot where there is room, and in a tooltip anyway. */
function Marks({
  marks,
  since,
  until,
  box,
  height,
}: {
  marks: Mark[];
  since: number;
  until: number;
  box: React.RefObject<HTMLDivElement | null>;
  height: number;
}) {
  const width = (box.current?.clientWidth ?? 640) - LEFT - RIGHT;
  const placed = placeMarks(
    marks.map((mark) => ({ mark, x: ((mark.at - since) / (until - since)) * width, width: Math.min(160, 12 + 6.2 * mark.name.length) })),
    ROWS,
    width + RIGHT,
  );
  return (
    <>
      {placed.map(({ mark, x, row, width: room }) => (
        <span key={`${mark.at} ${mark.name}`}>
          <span
            aria-hidden
            className={`pointer-events-none absolute border-l border-dashed ${mark.kind === "alert" ? "border-brick" : "border-slate"}`}
            style={{ left: LEFT + ((mark.at - since) / (until - since)) * width, top: ROWS * LABEL, height: height - AXIS - ROWS * LABEL }}
          />
          <span
            title={`${when(mark.at)}: ${mark.name}`}
            className={`absolute truncate text-[11px] leading-[13px] ${mark.kind === "alert" ? "text-brick" : "text-slate"} ${row < 0 ? "sr-only" : ""}`}
            style={{ left: LEFT + x, top: Math.max(0, row) * LABEL, maxWidth: room }}
          >
            {mark.name}
          </span>
        </span>
      ))}
    </>
  );
}
