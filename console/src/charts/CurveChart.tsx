// A figure as a number or a time goes through its range, over how many rows of training there are around each value.
import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import { short, when } from "../words";
import { ChartFrame } from "./ChartFrame";
import { colourOf, FONT, withOpacity } from "./colours";
import { niceTop } from "./layout";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

/** x : a number, or milliseconds since 1970 on an axis of time. rows : of training around it. low, high : of a band around the curve. */
export type CurvePoint = { x: number; y: number | null; rows: number; low?: number; high?: number };

type Props = {
  title: string;
  unit: string;
  points: CurvePoint[];
  /** Whether x is a time. */
  time?: boolean;
  /** Index of the value that the row has, and of the one that is looked at. */
  own?: number;
  now?: number;
  /** Whether y is a part of a whole. */
  part: boolean;
  height?: number;
};

export function CurveChart({ title, unit, points, time = false, own = -1, now = own, part, height = 180 }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState(-1);
  const known = points.flatMap((point) => (point.y === null ? [] : [point.y, point.low ?? point.y, point.high ?? point.y]));
  const band = points.some((point) => point.low !== undefined);
  // beside a band the shape matters; without one, how near an answer is to certain
  const top = part && !band ? 1 : niceTop(Math.max(0, ...known));
  const bottom = part ? 0 : Math.min(0, ...known);
  const most = Math.max(1, ...points.map((point) => point.rows));
  const data = useMemo(
    () => [points.map((point) => (time ? point.x / 1_000 : point.x)), points.map((point) => point.y)] as uPlot.AlignedData,
    [points, time],
  );
  const number = (value: number | null): string => (value === null ? "failed" : part ? `${(100 * value).toFixed(1)} %` : short(value));
  const axis = { stroke: colourOf("var(--faint)"), font: FONT, ticks: { show: false } };
  const options = (width: number): uPlot.Options => ({
    width,
    height,
    padding: [8, 12, 0, 0],
    legend: { show: false },
    scales: {
      x: { time, range: () => [data[0][0] ?? 0, data[0][data[0].length - 1] ?? 1] },
      y: { range: () => [bottom, top] },
    },
    axes: [
      { ...axis, size: 24, gap: 4, grid: { show: false }, space: 56 },
      {
        ...axis,
        size: 52,
        gap: 6,
        grid: { stroke: colourOf("var(--line)"), width: 1 },
        splits: () => [bottom, (bottom + top) / 2, top],
        values: (_, splits) => splits.map((value) => (part ? `${Math.round(100 * value)} %` : short(value))),
      },
    ],
    series: [{}, { stroke: colourOf("var(--amber)"), width: 2, points: { show: points.length < 3, size: 6 } }],
    cursor: { drag: { x: false, y: false }, y: false, points: { show: true } },
    hooks: {
      drawAxes: [
        (plot) => {
          // how common each value is, as an area of at most a third of the height
          const pen = plot.ctx;
          pen.fillStyle = withOpacity("var(--slate-fill)", 0.4);
          const foot = plot.valToPos(bottom, "y", true);
          const third = (foot - plot.valToPos(top, "y", true)) / 3;
          points.forEach((point, at) => {
            const x = (index: number): number => plot.valToPos(data[0][Math.min(points.length - 1, Math.max(0, index))] ?? 0, "x", true);
            const [left, right] = [(x(at - 1) + x(at)) / 2, (x(at) + x(at + 1)) / 2];
            const tall = (third * point.rows) / most;
            pen.fillRect(left, foot - tall, Math.max(1, right - left - 1), tall);
          });
          if (band) {
            const edge = (index: number, end: "low" | "high"): [number, number] => [
              plot.valToPos(data[0][index] ?? 0, "x", true),
              plot.valToPos(points[index]?.[end] ?? points[index]?.y ?? 0, "y", true),
            ];
            pen.fillStyle = withOpacity("var(--amber)", 0.18);
            pen.beginPath();
            points.forEach((_, at) => pen.lineTo(...edge(at, "high")));
            [...points.keys()].reverse().forEach((at) => pen.lineTo(...edge(at, "low")));
            pen.fill();
          }
        },
      ],
      draw: [
        (plot) => {
          const pen = plot.ctx;
          const mark = (index: number, colour: string, dash: number[]): void => {
            const x = plot.valToPos(data[0][index] ?? 0, "x", true);
            pen.save();
            pen.strokeStyle = colourOf(colour);
            pen.lineWidth = uPlot.pxRatio;
            pen.setLineDash(dash.map((length) => length * uPlot.pxRatio));
            pen.beginPath();
            pen.moveTo(x, plot.bbox.top);
            pen.lineTo(x, plot.bbox.top + plot.bbox.height);
            pen.stroke();
            const y = points[index]?.y;
            if (y !== null && y !== undefined) {
              pen.setLineDash([]);
              pen.fillStyle = colourOf(colour);
              pen.beginPath();
              pen.arc(x, plot.valToPos(y, "y", true), 5 * uPlot.pxRatio, 0, 2 * Math.PI);
              pen.fill();
            }
            pen.restore();
          };
          if (own >= 0) mark(own, "var(--slate)", [4, 3]);
          if (now !== own) mark(now, "var(--amber)", []);
        },
      ],
      setCursor: [(plot) => setChosen(plot.cursor.left === undefined || plot.cursor.left < 0 ? -1 : (plot.cursor.idx ?? -1))],
    },
  });
  usePlot(box, JSON.stringify([points, own, now, part, height, time]), options, data);
  const point = points[chosen];
  const reading = point && `${time ? when(point.x) : short(point.x)}: ${number(point.y)}`;
  return (
    <ChartFrame
      title={title}
      unit={unit}
      reading={reading}
      picture={box}
      table={{
        head: ["value", "figure", "rows of training"],
        rows: points.map((one) => [time ? new Date(one.x).toISOString() : one.x, one.y, one.rows]),
      }}
    >
      <div
        ref={box}
        style={{ height }}
        {...readable({ label: title, reading, hint: "the arrow keys read the curve", now: chosen, count: points.length, read: setChosen })}
      />
    </ChartFrame>
  );
}
