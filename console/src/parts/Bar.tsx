// A part of a whole as a bar.
import { Progress } from "radix-ui";

const TONES = { live: "bg-amber-fill", held: "bg-slate-fill", trouble: "bg-brick" } as const;

/** part : 0 to 1, drawn up to the whole. label : what it is, for screen readers. least : the part that is drawn at least. */
export function Bar({
  part,
  label,
  tone = "held",
  least = 0,
  className = "",
}: {
  part: number;
  label: string;
  tone?: keyof typeof TONES;
  least?: number;
  className?: string;
}) {
  const percent = 100 * Math.min(1, Math.max(0, Number.isFinite(part) ? part : 0));
  return (
    <Progress.Root
      value={percent}
      aria-label={label}
      getValueLabel={(value) => `${value.toFixed(0)} %`}
      className={`h-2 overflow-hidden rounded-small bg-sunk ${className}`}
    >
      <Progress.Indicator className={`h-full rounded-small ${TONES[tone]}`} style={{ width: `${Math.max(100 * least, percent)}%` }} />
    </Progress.Root>
  );
}
