// The score that was given to a label against how often it was right: on the diagonal, scores are probabilities.
import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import { count, percent } from "../words";
import { ChartFrame } from "./ChartFrame";
import { colourOf, FONT } from "./colours";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

export type CalibrationPoint = { expected: number; came: number; low: number; high: number; rows: number };

export function CalibrationChart({
  title,
  unit,
  points,
  size = 220,
}: {
  title: string;
  unit: string;
  points: CalibrationPoint[];
  size?: number;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState(-1);
  const data = useMemo(() => [points.map((point) => point.expected), points.map((point) => point.came)] as uPlot.AlignedData, [points]);
  const axis = {
    stroke: colourOf("var(--faint)"),
    font: FONT,
    gap: 4,
    grid: { stroke: colourOf("var(--line)"), width: 1 },
    ticks: { show: false },
    splits: () => [0, 0.5, 1],
    values: () => ["0", "50 %", "100 %"],
  };
  const options = (width: number): uPlot.Options => ({
    width,
    height: size,
    padding: [8, 16, 0, 0],
    legend: { show: false },
    scales: { x: { time: false, range: () => [0, 1] }, y: { range: () => [0, 1] } },
    axes: [
      { ...axis, size: 24 },
      { ...axis, size: 44 },
    ],
    series: [
      {},
      { stroke: "transparent", points: { show: true, size: 8, fill: colourOf("var(--amber-fill)"), stroke: colourOf("var(--amber)") } },
    ],
    cursor: { drag: { x: false, y: false }, x: false, y: false, points: { show: false } },
    hooks: {
      drawAxes: [
        (plot) => {
          const pen = plot.ctx;
          const x = (part: number): number => plot.valToPos(part, "x", true);
          const y = (part: number): number => plot.valToPos(part, "y", true);
          const stroke = (colour: string, from: [number, number], to: [number, number]): void => {
            pen.strokeStyle = colour;
            pen.lineWidth = uPlot.pxRatio;
            pen.beginPath();
            pen.moveTo(x(from[0]), y(from[1]));
            pen.lineTo(x(to[0]), y(to[1]));
            pen.stroke();
          };
          stroke(colourOf("var(--slate-fill)"), [0, 0], [1, 1]);
          for (const point of points) stroke(colourOf("var(--amber)"), [point.expected, point.low], [point.expected, point.high]);
        },
      ],
      setCursor: [
        (plot) => {
          if (plot.cursor.left === undefined || plot.cursor.left < 0) return setChosen(-1);
          const at = plot.posToVal(plot.cursor.left, "x");
          setChosen(
            points.reduce(
              (best, point, index) => (Math.abs(point.expected - at) < Math.abs((points[best]?.expected ?? 9) - at) ? index : best),
              -1,
            ),
          );
        },
      ],
    },
  });
  usePlot(box, JSON.stringify([points, size]), options, data);
  const point = points[chosen];
  const reading = point && `given ${percent(point.expected)}, right in ${percent(point.came)} of ${count(point.rows)}`;

  return (
    <ChartFrame
      title={title}
      unit={unit}
      reading={reading}
      picture={box}
      table={{
        head: ["score", "right", "low", "high", "rows"],
        rows: points.map((one) => [one.expected, one.came, one.low, one.high, one.rows]),
      }}
    >
      <div
        ref={box}
        style={{ height: size }}
        {...readable({ label: title, reading, hint: "the arrow keys read the points", now: chosen, count: points.length, read: setChosen })}
      />
    </ChartFrame>
  );
}
