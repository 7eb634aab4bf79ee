// A feature of training and window over each other: bins with their true edges, as densities, so that areas are shares of rows.
import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import { percent, short } from "../words";
import { ChartFrame } from "./ChartFrame";
import { colourOf, withOpacity, FONT } from "./colours";
import { tickTexts } from "./layout";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

/** ends : the edges of the bins, one more than there are bins. reference, window : shares of the rows in each bin. */
export function DistributionChart({
  title,
  unit,
  ends,
  reference,
  window,
  height = 180,
}: {
  title: string;
  unit?: string;
  ends: number[];
  reference: number[];
  window: number[];
  height?: number;
}) {
  const box = useRef<HTMLDivElement>(null);
  const [bin, setBin] = useState(-1);
  const span = ends[ends.length - 1]! - ends[0]! || 1;
  const data = useMemo(() => {
    const density = (shares: number[]): number[] => shares.map((share, at) => share / Math.max(ends[at + 1]! - ends[at]!, span / 120));
    return [ends.slice(0, -1), density(reference), density(window)] as uPlot.AlignedData;
  }, [ends, reference, window, span]);
  const most = Math.max(...(data[1] as number[]), ...(data[2] as number[]), 1e-12);
  const draw = (plot: uPlot): void => {
    const pen = plot.ctx;
    const base = plot.valToPos(0, "y", true);
    const ratio = uPlot.pxRatio;
    for (const [line, fill, stroke] of [
      [1, colourOf("var(--slate-fill)"), null],
      [2, withOpacity("var(--amber-fill)", 0.45), colourOf("var(--amber)")],
    ] as const) {
      (plot.data[line] as number[]).forEach((density, at) => {
        const left = plot.valToPos(ends[at]!, "x", true);
        const right = plot.valToPos(ends[at + 1]!, "x", true);
        const y = plot.valToPos(density, "y", true);
        pen.fillStyle = fill;
        pen.fillRect(left, y, Math.max(2 * ratio, right - left - ratio), base - y);
        if (!stroke) return;
        pen.strokeStyle = stroke;
        pen.lineWidth = ratio;
        pen.strokeRect(left, y, Math.max(2 * ratio, right - left - ratio), base - y);
      });
    }
  };
  const options = (width: number): uPlot.Options => ({
    width,
    height,
    padding: [8, 16, 0, 16],
    legend: { show: false },
    scales: { x: { time: false, range: () => [ends[0]!, ends[0]! + span] }, y: { range: () => [0, most * 1.02] } },
    axes: [
      {
        stroke: colourOf("var(--faint)"),
        font: FONT,
        size: 24,
        gap: 4,
        grid: { show: false },
        ticks: { show: true, stroke: colourOf("var(--line)"), size: 4 },
        values: (_, splits) => tickTexts(splits),
        space: 72,
      },
      { show: false },
    ],
    series: [{}, { show: true, paths: () => null, points: { show: false } }, { show: true, paths: () => null, points: { show: false } }],
    cursor: { drag: { x: false, y: false }, points: { show: false }, x: false, y: false },
    hooks: {
      draw: [draw],
      setCursor: [
        (plot) => {
          const at = plot.cursor.left !== undefined && plot.cursor.left >= 0 ? plot.posToVal(plot.cursor.left, "x") : null;
          setBin(at === null ? -1 : Math.min(ends.length - 2, Math.max(0, ends.findIndex((end) => end > at) - 1)));
        },
      ],
    },
  });
  usePlot(box, JSON.stringify([ends, most, height]), options, data);
  const bins = ends.length - 1;
  const name = (at: number): string => `${at === 0 ? "up" : short(ends[at]!)} to ${at === bins - 1 ? "the top" : short(ends[at + 1]!)}`;
  const reading = bin < 0 ? undefined : `${name(bin)}: ${percent(reference[bin])} in training, ${percent(window[bin])} now`;

  return (
    <ChartFrame
      title={title}
      unit={unit}
      reading={reading}
      picture={box}
      table={{
        head: ["from", "to", "in training", "now"],
        rows: reference.map((share, at) => [ends[at]!, ends[at + 1]!, share, window[at] ?? null]),
      }}
    >
      <div
        ref={box}
        style={{ height }}
        {...readable({
          label: `${title}, training and window`,
          reading,
          hint: "the arrow keys read the bins",
          now: bin,
          count: bins,
          read: setBin,
        })}
      />
    </ChartFrame>
  );
}
