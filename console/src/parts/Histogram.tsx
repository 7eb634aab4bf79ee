import type { Profile } from "../api/client";
import { count, short } from "../words";
import { Tip } from "./Tip";

const BINS = 24;
const WIDTH = 144;
const HEIGHT = 28;

/** What training looked like: the reference is slate-blue everywhere, except for a live version held against another. Numbers as a
 *  histogram, choices as their shares. */
export function Histogram({ profile, live = false }: { profile: Profile; live?: boolean }) {
  const there = profile.count - profile.missing;
  if (profile.quantiles?.length) return <Numbers quantiles={profile.quantiles} fill={live ? "var(--amber-fill)" : "var(--slate-fill)"} />;
  const choices = Object.entries(profile.choices ?? {});
  if (!choices.length) return <span className="text-faint">{there ? "not kept" : "always missing"}</span>;
  const shown = choices.slice(0, 3);
  return (
    <Tip text={choices.map(([name, amount]) => `${name}: ${count(amount)}`).join(", ")}>
      <span className="flex gap-x-3 overflow-hidden text-small">
        {shown.map(([name, amount]) => (
          <span key={name}>
            <span className="font-mono">{name}</span> <span className="text-faint">{Math.round((100 * amount) / there)} %</span>
          </span>
        ))}
        {choices.length > shown.length && <span className="text-faint">+{choices.length - shown.length}</span>}
      </span>
    </Tip>
  );
}

function Numbers({ quantiles, fill }: { quantiles: number[]; fill: string }) {
  const low = quantiles[0]!;
  const high = quantiles[quantiles.length - 1]!;
  const bars = shares(quantiles);
  const top = Math.max(...bars);
  const step = WIDTH / BINS;
  return (
    <span className="flex items-center gap-2 text-small text-faint">
      <span className="w-12 shrink-0 text-right">{short(low)}</span>
      <svg
        width={WIDTH}
        height={HEIGHT}
        role="img"
        aria-label={`from ${short(low)} to ${short(high)}, half below ${short(quantiles[10]!)}`}
      >
        {bars.map((share, at) => {
          const height = Math.max(share > 0 ? 1 : 0, (share / top) * (HEIGHT - 1));
          return <rect key={at} x={at * step} y={HEIGHT - height} width={step - 1} height={height} fill={fill} />;
        })}
      </svg>
      <span>{short(high)}</span>
    </span>
  );
}

/** Share of the rows in each of equally wide bins, from quantiles at equal steps of probability. */
function shares(quantiles: number[]): number[] {
  const low = quantiles[0]!;
  const width = (quantiles[quantiles.length - 1]! - low) / BINS;
  if (width <= 0) return Array.from({ length: BINS }, (_, at) => (at === BINS >> 1 ? 1 : 0));
  const bars = new Array<number>(BINS).fill(0);
  for (let cell = 1; cell < quantiles.length; cell++) {
    const from = quantiles[cell - 1]!;
    const to = quantiles[cell]!;
    for (let at = 0; at < BINS; at++) {
      const left = low + at * width;
      const inside = to > from ? Math.max(0, Math.min(to, left + width) - Math.max(from, left)) / (to - from) : 0;
      const point = to === from && Math.min(BINS - 1, Math.floor((to - low) / width)) === at ? 1 : 0;
      bars[at]! += inside + point;
    }
  }
  return bars;
}
