import type { DriftPage } from "../api/client";
import { Tip } from "./Tip";

export type State = NonNullable<DriftPage["state"]>;

const WORDS: Record<State, string> = {
  steady: "looks like training",
  shifting: "certainly otherwise than in training, by a little",
  drifted: "certainly and largely otherwise than in training",
  "too few": "too few rows to say",
};

export const FILLS: Record<State, string> = {
  steady: "var(--slate-fill)",
  shifting: "var(--amber-fill)",
  drifted: "var(--brick)",
  "too few": "var(--line)",
};

const TONES = {
  drifted: "text-brick font-semibold",
  shifting: "text-amber",
  steady: "text-slate",
  "too few": "text-faint",
} as const satisfies Record<State, string>;

/** A verdict: a mark of its own shape for each, and the word. */
export function Verdict({ state, word = true, tip = true }: { state: State | null | undefined; word?: boolean; tip?: boolean }) {
  if (!state) return <span className="text-faint">–</span>;
  const tone = TONES[state];
  return (
    <Tip text={tip ? WORDS[state] : null}>
      <span className={`inline-flex items-center gap-2 ${tone}`}>
        <svg width={10} height={10} viewBox="0 0 10 10" aria-hidden className="shrink-0">
          {state === "steady" && <rect x="0.5" y="3.5" width="9" height="3" rx="1.5" fill="var(--slate-fill)" />}
          {state === "shifting" && <path d="M0 8 10 2" stroke="var(--amber-fill)" strokeWidth="3" strokeLinecap="round" />}
          {state === "drifted" && <path d="M5 0 10 9.5H0z" fill="var(--brick)" />}
          {state === "too few" && <circle cx="5" cy="5" r="4" fill="none" stroke="var(--faint)" strokeDasharray="2 1.6" />}
        </svg>
        {word ? state : <span className="sr-only">{state}</span>}
      </span>
    </Tip>
  );
}
