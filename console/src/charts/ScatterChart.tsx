// Points of two numbers, with a limit that can be taken hold of: what lies above it stands out.
import { Slider } from "radix-ui";
import { useEffect, useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import { short, when } from "../words";
import { ChartFrame } from "./ChartFrame";
import { clockTicks } from "./clockTicks";
import { colourOf, FONT } from "./colours";
import { nearestPoint, niceTop } from "./layout";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

/**
 * x : a number, or milliseconds since 1970 on an axis of time. name : what is read of it. label : stands beside it. onLine : whether the line
 * goes through it.
 */
export type ScatterPoint = { x: number; y: number; name: string; tone: "held" | "live" | "trouble"; label?: string; onLine?: boolean };
/**
 * value : null for no limit. onCommit : called when the limit is let go. onDrag : while it is moved. text : what stands at its handle, by
 * default how many points are above it.
 */
export type ScatterLimit = {
  value: number | null;
  name: string;
  onCommit: (value: number | null) => void;
  onDrag?: (value: number | null) => void;
  text?: (value: number | null) => string;
};

const TONES = ["held", "live", "trouble"] as const;
const COLOURS = { held: "var(--slate)", live: "var(--amber-fill)", trouble: "var(--brick)" } as const;
const LEFT = 48;
const RIGHT = 80;
const AXIS = 24;
const TOP = 8;
const STEPS = 200;
const LABEL = 20;

/** The labels of points, beside them; one that would cover another stands above it. */
function drawLabels(plot: uPlot, points: ScatterPoint[]): void {
  const { ctx } = plot;
  ctx.save();
  ctx.font = `600 ${11 * devicePixelRatio}px ${getComputedStyle(document.body).fontFamily}`;
  ctx.fillStyle = colourOf("var(--ink)");
  const taken: { x: number; y: number; width: number }[] = [];
  for (const { x, y, label } of points) {
    if (!label) continue;
    const width = ctx.measureText(label).width;
    const place = { x: plot.valToPos(x, "x", true) + 6 * devicePixelRatio, y: plot.valToPos(y, "y", true) - 6 * devicePixelRatio, width };
    const row = 13 * devicePixelRatio;
    while (taken.some((one) => Math.abs(one.y - place.y) < row && one.x < place.x + width && place.x < one.x + one.width)) place.y -= row;
    taken.push(place);
    ctx.fillText(label, place.x, place.y);
  }
  ctx.restore();
}

type Props = {
  title: string;
  unit: string;
  points: ScatterPoint[];
  /** Whether x is a time. */
  time?: boolean;
  /** What x is, under its axis; it then begins at 0. */
  across?: string;
  height?: number;
  /** The highest y that is drawn, unless the limit is above it; what lies higher stands at the edge. */
  most?: number;
  limit: ScatterLimit;
  /** Called with a point that is pressed, or on which Enter is pressed. */
  onPick?: (point: ScatterPoint) => void;
};

export function ScatterChart({ title, unit, points, time = false, across, height = 148, most = Infinity, limit, onPick }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState(-1);
  const [dragged, setDragged] = useState<number | null>(null);
  const sorted = useMemo(() => [...points].sort((a, b) => a.x - b.x), [points]);
  const top = niceTop(Math.max(0, limit.value ?? 0, Math.min(most, Math.max(0, ...sorted.map((point) => point.y)))));
  const data = useMemo(
    () =>
      [
        sorted.map((point) => (time ? point.x / 1_000 : point.x)),
        ...TONES.map((tone) => sorted.map((point) => (point.tone === tone ? Math.min(point.y, top) : null))),
        sorted.map((point) => (point.onLine ? Math.min(point.y, top) : null)),
      ] as uPlot.AlignedData,
    [sorted, time, top],
  );
  const low = sorted[0]?.x ?? 0;
  const high = Math.max(sorted[sorted.length - 1]?.x ?? 1, low + 1e-9);
  const latest = useRef(sorted);
  useEffect(() => {
    latest.current = sorted;
  }, [sorted]);
  const place = (plot: uPlot): number => {
    const { left, top: y } = plot.cursor;
    if (left === undefined || y === undefined || left < 0) return -1;
    return nearestPoint(
      sorted.map((point) => ({ x: plot.valToPos(time ? point.x / 1_000 : point.x, "x"), y: plot.valToPos(Math.min(point.y, top), "y") })),
      left,
      y,
    );
  };

  const options = (width: number): uPlot.Options => {
    const axis = { stroke: colourOf("var(--faint)"), font: FONT, ticks: { show: false } };
    return {
      width,
      height,
      padding: [TOP, RIGHT, 0, 0],
      legend: { show: false },
      scales: {
        x: {
          time,
          range: (plot) => {
            const last = plot.data[0][plot.data[0].length - 1] ?? 1;
            return across ? [0, 1.05 * last] : [plot.data[0][0] ?? 0, last];
          },
        },
        y: { range: () => [0, top] },
      },
      axes: [
        {
          ...axis,
          size: AXIS,
          gap: 4,
          grid: { show: false },
          space: 72,
          ...(time ? { values: clockTicks } : {}),
          ...(across ? { label: across, labelSize: LABEL, labelFont: FONT } : {}),
        },
        {
          ...axis,
          size: LEFT,
          gap: 6,
          grid: { stroke: colourOf("var(--line)"), width: 1 },
          splits: () => [0, top / 2, top],
          values: (_, splits) => splits.map(short),
        },
      ],
      series: [
        {},
        ...TONES.map((tone) => ({
          stroke: "transparent",
          points: { show: true, size: 6, fill: colourOf(COLOURS[tone]), stroke: colourOf(COLOURS[tone]) },
        })),
        { stroke: colourOf("var(--slate)"), width: 1, dash: [3, 3], spanGaps: true, points: { show: false } },
      ],
      cursor: { drag: { x: false, y: false }, x: false, y: false, points: { show: false } },
      hooks: { setCursor: [(plot) => setChosen(place(plot))], draw: [(plot) => drawLabels(plot, latest.current)] },
    };
  };
  usePlot(box, JSON.stringify([low, high, sorted.length, top, height, time, across]), options, data);

  const point = sorted[chosen];
  const reading = point && `${time ? when(point.x) : short(point.x)}: ${point.name}`;
  const shown = dragged ?? limit.value;
  const inside = height - (across ? AXIS + LABEL : AXIS) - TOP;
  const over = shown === null ? 0 : sorted.filter((one) => one.y >= shown).length;
  return (
    <ChartFrame
      title={title}
      unit={unit}
      reading={reading}
      picture={box}
      table={{
        head: [time ? "time" : "x", "y", "what"],
        rows: sorted.map((one) => [time ? new Date(one.x).toISOString() : one.x, one.y, one.name]),
      }}
    >
      <div className="relative">
        {/* eslint-disable-next-line jsx-a11y/click-events-have-key-events, jsx-a11y/no-static-element-interactions -- readable() makes it a slider with keys */}
        <div
          ref={box}
          style={{ height, cursor: point && onPick ? "pointer" : undefined }}
          onClick={() => point && onPick?.(point)}
          {...readable({
            label: title,
            reading,
            hint: `the arrow keys read the points${onPick ? ", Enter opens one" : ""}`,
            now: chosen,
            count: sorted.length,
            read: setChosen,
            pick: point && onPick ? () => onPick(point) : undefined,
          })}
        />
        {shown !== null && (
          <span
            aria-hidden
            className="pointer-events-none absolute border-t border-dashed border-slate"
            style={{ left: LEFT, right: RIGHT, top: TOP + inside * (1 - Math.min(1, shown / top)) }}
          />
        )}
        <Slider.Root
          orientation="vertical"
          className="absolute flex w-5 touch-none flex-col items-center select-none"
          style={{ top: TOP, height: inside, right: RIGHT - 20 }}
          min={0}
          max={top}
          step={top / STEPS}
          value={[shown ?? top]}
          onValueChange={([next]) => {
            setDragged(next ?? null);
            limit.onDrag?.(next === undefined || next >= top ? null : next);
          }}
          onValueCommit={([next]) => {
            setDragged(null);
            limit.onCommit(next === undefined || next >= top ? null : Number(next.toPrecision(3)));
          }}
        >
          <Slider.Track className="relative w-px flex-1 bg-line" />
          <Slider.Thumb
            aria-label={limit.name}
            className="relative block h-3 w-5 cursor-ns-resize rounded-small border border-slate bg-card"
          >
            <span className="absolute top-1/2 left-6 -translate-y-1/2 text-[11px] leading-[13px] whitespace-nowrap text-slate">
              {limit.text ? limit.text(shown) : shown === null ? "no limit" : `${short(shown)}: ${over}`}
            </span>
          </Slider.Thumb>
        </Slider.Root>
      </div>
    </ChartFrame>
  );
}
