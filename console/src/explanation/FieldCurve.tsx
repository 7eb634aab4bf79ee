// The answer as one field goes through its range: a curve with a slider for numbers and times, a list for anything else.
import { Slider } from "radix-ui";
import { useState } from "react";
import type { Field } from "../api/client";
import { CurveChart } from "../charts/CurveChart";
import { nextReading } from "../charts/layout";
import { Bar } from "../parts/Bar";
import { Button, Mono, Trouble } from "../parts/basics";
import { type Curve, type ExplainedRow, useCurve } from "./queries";
import { figureName, figureText, valueText } from "./wording";

type Props = {
  endpoint: string;
  served: number;
  of: ExplainedRow;
  field: Field;
  /** Puts another value into the form. */
  onTry?: (values: Record<string, unknown>) => void;
};

export function FieldCurve({ endpoint, served, of, field, onTry }: Props) {
  const curve = useCurve(endpoint, served, of, field.name);
  if (curve.error) return <Trouble error={curve.error} />;
  if (!curve.data || curve.data.field !== field.name) return <p className="h-60 text-soft">Asking {field.name} through its range …</p>;
  const ordered = field.kind === "number" || field.kind === "integer" || field.kind === "time";
  return (
    <div className={curve.isPlaceholderData ? "opacity-60" : ""}>
      {ordered && curve.data.values.filter((value) => value !== null).length > 1 ? (
        <Along key={`${field.name} ${curve.data.own} ${curve.data.values.length}`} curve={curve.data} field={field} onTry={onTry} />
      ) : (
        <Listed curve={curve.data} field={field} onTry={onTry} />
      )}
      <p className="mt-1 text-small text-faint">
        Everything else stays as it is.{ordered && " Slate-blue: how common the values are in training."}
      </p>
    </div>
  );
}

function Along({ curve, field, onTry }: { curve: Curve; field: Field; onTry: Props["onTry"] }) {
  const [now, setNow] = useState(curve.own);
  const time = field.kind === "time";
  const figures = curve.figures[curve.figure] ?? [];
  const points = curve.values.flatMap((value, at) =>
    value === null ? [] : [{ x: time ? Date.parse(String(value)) : Number(value), y: figures[at] ?? null, rows: curve.counts[at] ?? 0 }],
  );
  const value = curve.values[now];
  const low = points[0]?.x ?? 0;
  const high = Math.max(points[points.length - 1]?.x ?? 1, low + 1e-9);
  return (
    <>
      <CurveChart
        title={`${field.name} through its range`}
        unit={[figureName(curve), field.unit && `by ${field.unit}`].filter(Boolean).join(", ")}
        points={points}
        time={time}
        own={Math.min(curve.own, points.length - 1)}
        now={Math.min(now, points.length - 1)}
        part={curve.is_score}
      />
      <Slider.Root
        className="relative mt-1 flex h-5 touch-none items-center select-none"
        style={{ marginLeft: 52, marginRight: 12 }}
        min={low}
        max={high}
        step={(high - low) / 500}
        value={[points[Math.min(now, points.length - 1)]?.x ?? low]}
        onValueChange={([next]) => setNow(nearestTo(points, next ?? low))}
        onKeyDown={(event) => {
          // the arrow keys go from value to value, and not by parts of a hair
          const next = nextReading(event.key, now, points.length);
          if (next === undefined) return;
          event.preventDefault();
          setNow(next);
        }}
      >
        <Slider.Track className="h-1 grow rounded-small bg-line" />
        <Slider.Thumb
          aria-label={`value of ${field.name}`}
          aria-valuetext={`${valueText(value)}: ${figureText(curve, figures[now] ?? null)}`}
          className="block size-4 rounded-full border border-amber bg-amber-fill"
        />
      </Slider.Root>
      <p className="flex h-8 items-center gap-2" aria-live="polite">
        <Mono>{valueText(value)}</Mono> {field.unit} gives{" "}
        <strong className="font-semibold text-amber">{figureText(curve, figures[now] ?? null)}</strong>
        {now !== curve.own && (
          <span className="text-soft">
            instead of {figureText(curve, figures[curve.own] ?? null)} at <Mono>{valueText(curve.values[curve.own])}</Mono>
          </span>
        )}
        {now !== curve.own && onTry && (
          <Button className="ml-auto" onClick={() => onTry({ [field.name]: value })}>
            Ask with it
          </Button>
        )}
      </p>
    </>
  );
}

const nearestTo = (points: { x: number }[], x: number): number =>
  points.reduce((best, point, at) => (Math.abs(point.x - x) < Math.abs((points[best]?.x ?? Infinity) - x) ? at : best), 0);

function Listed({ curve, field, onTry }: { curve: Curve; field: Field; onTry: Props["onTry"] }) {
  const figures = curve.figures[curve.figure] ?? [];
  const most = curve.is_score ? 1 : Math.max(...figures.map((figure) => Math.abs(figure ?? 0)), 1e-12);
  return (
    <>
      <p className="text-small">
        <span className="font-semibold">{field.name} through its values</span> <span className="text-faint">{figureName(curve)}</span>
      </p>
      <div className="max-h-64 overflow-auto">
        <table className="figures w-full" aria-label={`${field.name} through its values`}>
          <tbody>
            {curve.values.map((value, at) => (
              <tr key={valueText(value)} className={at === curve.own ? "bg-amber-wash" : undefined}>
                <th scope="row" className="font-mono font-normal whitespace-nowrap">
                  {onTry && at !== curve.own ? (
                    <button type="button" className="hover:underline" title="ask with it" onClick={() => onTry({ [field.name]: value })}>
                      {valueText(value)}
                    </button>
                  ) : (
                    valueText(value)
                  )}
                </th>
                <td className="w-[45%]">
                  <Bar
                    className="h-3!"
                    tone={at === curve.own ? "live" : "held"}
                    part={Math.abs(figures[at] ?? 0) / most}
                    label={`figure at ${valueText(value)}`}
                  />
                </td>
                <td className="num font-mono">{figureText(curve, figures[at] ?? null)}</td>
                <td className="num text-faint">{curve.counts[at]} rows</td>
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </>
  );
}
