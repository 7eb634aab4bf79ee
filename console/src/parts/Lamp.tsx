import type { Endpoint } from "../api/client";

export type LampState = Endpoint["state"] | "unlit";

/** A lamp that is lit flickers while an alert about its endpoint is open: it serves, and needs a look. */
export const lampOf = (one: Pick<Endpoint, "state" | "looks">): LampState => (one.state === "lit" && one.looks.alerts > 0 ? "flickering" : one.state);

const WORDS = {
  lit: "serving, steady",
  flickering: "serving, something needs a look",
  out: "not serving",
  unlit: "ready, no traffic",
} as const satisfies Record<LampState, string>;

/** A state as a lamp: filled and glowing, half filled, struck through, or an empty ring. Shape and fill say it, not colour alone. */
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
        boxShadow: state === "lit" ? "var(--glow)" : undefined,
        animation: state === "flickering" ? "flicker 2.4s infinite" : undefined,
      }}
    >
      <title>{`${state}: ${WORDS[state]}`}</title>
      {state === "lit" && <circle cx="6" cy="6" r="5.5" fill="var(--amber-fill)" />}
      {state === "flickering" && (
        <>
          <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--amber-fill)" strokeWidth="1.5" />
          <path d="M6 1.25a4.75 4.75 0 0 0 0 9.5z" fill="var(--amber-fill)" />
        </>
      )}
      {state === "out" && (
        <>
          <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--brick)" strokeWidth="1.5" />
          <path d="M2.8 9.2 9.2 2.8" stroke="var(--brick)" strokeWidth="1.5" />
        </>
      )}
      {state === "unlit" && <circle cx="6" cy="6" r="4.75" fill="none" stroke="var(--slate)" strokeWidth="1.5" strokeDasharray="2 1.6" />}
    </svg>
  );
}
