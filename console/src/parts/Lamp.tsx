import type { Endpoint, Lane } from "../api/client";

export type LampState = Endpoint["state"];

const MEANINGS = {
  serving: "it answers",
  degraded: "it answers, and something needs a look",
  asleep: "its next request opens it",
  opening: "it is being opened",
  down: "it cannot answer",
} as const satisfies Record<LampState, string>;

/** The lamp of a lane, whose states are finer than those of an endpoint. */
export const LANE_LAMPS = {
  opening: "opening",
  serving: "serving",
  silent: "degraded",
  restarting: "degraded",
  down: "down",
  closed: "down",
} as const satisfies Record<Lane["state"], LampState>;

/** A state as a lamp: full, half full, hollow, dashed while it opens, or dark with a bar. Shape and fill say it, not colour alone. */
export function Lamp({ state, large = false }: { state: LampState; large?: boolean }) {
  const size = large ? 18 : 12;
  return (
    <svg
      width={size}
      height={size}
      viewBox="0 0 12 12"
      role="img"
      aria-label={state}
      className="shrink-0 overflow-visible rounded-full"
      style={{
        boxShadow: state === "serving" ? "var(--glow)" : undefined,
        animation: state === "degraded" ? "flicker 2.4s infinite" : undefined,
      }}
    >
      <title>{`${state}: ${MEANINGS[state]}`}</title>
      {state === "serving" && <circle cx="6" cy="6" r="5.5" fill="var(--amber-fill)" />}
      {state === "degraded" && (
        <>
          <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--amber-fill)" strokeWidth="1.5" />
          <path d="M6 1.25a4.75 4.75 0 0 0 0 9.5z" fill="var(--amber-fill)" />
        </>
      )}
      {state === "down" && (
        <>
          <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--brick)" strokeWidth="1.5" />
          <path d="M2.6 6h6.8" stroke="var(--brick)" strokeWidth="1.5" />
        </>
      )}
      {state === "asleep" && <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--slate)" strokeWidth="1.5" />}
      {state === "opening" && <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--slate)" strokeWidth="1.5" strokeDasharray="2 1.6" />}
    </svg>
  );
}
