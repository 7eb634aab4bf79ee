// Points of two numbers, with a limit that can be taken hold of: what lies above it stands out.
import { Slider } from "radix-ui";
import { useMemo, useRef, useState } from "react";
import uPlot from "uplot";
import { short, when } from "../words";
import { ChartFrame } from "./ChartFrame";
import { clockTicks } from "./clockTicks";
import { colourOf, FONT } from "./colours";
import { nearestPoint, niceTop } from "./layout";
import { readable } from "./readable";
import { usePlot } from "./usePlot";

/** x : a number, or milliseconds since 1970 on an axis of time. name : what is read of it. */
export type ScatterPoint = { x: number; y: number; name: string; tone: "held" | "live" | "trouble" };
/** value : null for no limit. onCommit : called when the limit is let go. */
export type ScatterLimit = { value: number | null; name: string; onCommit: (value: number | null) => void };

const TONES = ["held", "live", "trouble"] as const;
const COLOURS = { held: "var(--slate)", live: "var(--amber-fill)", trouble: "var(--brick)" } as const;
const LEFT = 48;
const RIGHT = 80;
const AXIS = 24;
const TOP = 8;
const STEPS = 200;

type Props = {
  title: string;
  unit: string;
  points: ScatterPoint[];
  /** Whether x is a time. */
  time?: boolean;
  height?: number;
  limit: ScatterLimit;
  /** Called with a point that is pressed, or on which Enter is pressed. */
  onPick?: (point: ScatterPoint) => void;
};

export function ScatterChart({ title, unit, points, time = false, height = 148, limit, onPick }: Props) {
  const box = useRef<HTMLDivElement>(null);
  const [chosen, setChosen] = useState(-1);
  const [dragged, setDragged] = useState<number | null>(null);
  const sorted = useMemo(() => [...points].sort((a, b) => a.x - b.x), [points]);
  const data = useMemo(
    () =>
      [
        sorted.map((point) => (time ? point.x / 1_000 : point.x)),
        ...TONES.map((tone) => sorted.map((point) => (point.tone === tone ? point.y : null))),
      ] as uPlot.AlignedData,
    [sorted, time],
  );
  const top = niceTop(Math.max(0, limit.value ?? 0, ...sorted.map((point) => point.y)));
  const low = sorted[0]?.x ?? 0;
  const high = Math.max(sorted[sorted.length - 1]?.x ?? 1, low + 1e-9);
  const place = (plot: uPlot): number => {
    const { left, top: y } = plot.cursor;
    if (left === undefined || y === undefined || left < 0) return -1;
    return nearestPoint(
      sorted.map((point) => ({ x: plot.valToPos(time ? point.x / 1_000 : point.x, "x"), y: plot.valToPos(point.y, "y") })),
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
        x: { time, range: (plot) => [plot.data[0][0] ?? 0, plot.data[0][plot.data[0].length - 1] ?? 1] },
        y: { range: () => [0, top] },
      },
      axes: [
        { ...axis, size: AXIS, gap: 4, grid: { show: false }, space: 72, ...(time ? { values: clockTicks } : {}) },
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
      ],
      cursor: { drag: { x: false, y: false }, x: false, y: false, points: { show: false } },
      hooks: { setCursor: [(plot) => setChosen(place(plot))] },
    };
  };
  usePlot(box, JSON.stringify([low, high, sorted.length, top, height, time]), options, data);

  const point = sorted[chosen];
  const reading = point && `${time ? when(point.x) : short(point.x)}: ${point.name}`;
  const shown = dragged ?? limit.value;
  const inside = height - AXIS - TOP;
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
          onValueChange={([next]) => setDragged(next ?? null)}
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
              {shown === null ? "no limit" : `${short(shown)}: ${over}`}
            </span>
          </Slider.Thumb>
        </Slider.Root>
      </div>
    </ChartFrame>
  );
}
