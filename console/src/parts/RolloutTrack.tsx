import { api, type EndpointPage as Page, good, type Rollout } from "../api/client";
import { useNow } from "../useNow";
import { count, plural } from "../words";
import { riskNote, RolloutCard } from "./RolloutCard";

const DAY_MS = 86_400_000;

/** The rollout of an endpoint as a track: the steps it has taken and has before it. */
export function RolloutTrack({ page }: { page: Page }) {
  const rollout = page.rollout;
  const now = useNow();
  if (!rollout || (rollout.ended_at && now - Date.parse(rollout.ended_at) > DAY_MS)) return null;
  const share = rollout.plan.steps[rollout.step]?.share ?? 0;
  return (
    <div className="mt-4">
      <RolloutCard
        rollout={rollout}
        title="Rollout"
        command={`lamppost rollout ${page.name} --follow`}
        progress={<Track rollout={rollout} />}
        steer={async (act) =>
          good(await api.POST("/api/endpoints/{endpoint}/rollout/{act}", { params: { path: { endpoint: page.name, act } } }))
        }
        present={`at ${share} %`}
        note={`${plural(rollout.plan.steps.length - rollout.step, "step")} to go; ${riskNote(rollout.plan.guards?.risk)}`}
      />
    </div>
  );
}

/** Stops along a line from 0 to 100 %; what was reached is amber. */
function Track({ rollout }: { rollout: Rollout }) {
  const stops = [...rollout.plan.steps.map((step) => step.share), 100];
  const x = (at: number): number => 24 + (812 * (at + 1)) / stops.length;
  const reached = rollout.state === "done" ? stops.length - 1 : rollout.step;
  const live = rollout.state === "running" || rollout.state === "paused" || rollout.state === "done";
  return (
    <svg viewBox="0 0 880 76" className="mt-2 w-full" role="img" aria-label={`at ${stops[reached]} % of ${stops.join(", ")} %`}>
      <line x1="24" x2="836" y1="24" y2="24" stroke="var(--line)" strokeWidth="4" strokeLinecap="round" />
      <line
        x1="24"
        x2={x(reached)}
        y1="24"
        y2="24"
        stroke={live ? "var(--amber-fill)" : "var(--slate-fill)"}
        strokeWidth="4"
        strokeLinecap="round"
      />
      <circle cx="24" cy="24" r="5" fill="var(--slate-fill)" />
      <text x="24" y="52" className="fill-faint text-small" textAnchor="middle">
        0 %
      </text>
      {stops.map((share, at) => {
        const step = rollout.plan.steps[at];
        const calls = rollout.calls[at]?.[1];
        const here = at === reached;
        const lasts = step
          ? [
              step.calls ? `${count(Math.min(calls ?? 0, step.calls))} of ${count(step.calls)} calls` : "",
              step.minutes ? `${step.minutes} min` : "",
            ]
              .filter(Boolean)
              .join(", ")
          : "serves alone";
        return (
          <g key={share}>
            <circle
              cx={x(at)}
              cy="24"
              r={here ? 9 : 6}
              fill={at > reached ? "var(--card)" : live ? "var(--amber-fill)" : "var(--slate-fill)"}
              stroke={at > reached ? "var(--slate-fill)" : "none"}
              strokeWidth="2"
            >
              {here && rollout.state === "running" && <animate attributeName="r" values="9;7;9" dur="2s" repeatCount="indefinite" />}
            </circle>
            <text
              x={x(at)}
              y="52"
              className={`text-small ${here ? "fill-ink font-semibold" : "fill-faint"}`}
              textAnchor={at === stops.length - 1 ? "end" : "middle"}
              dx={at === stops.length - 1 ? 20 : 0}
            >
              {share} %
            </text>
            <text
              x={x(at)}
              y="68"
              className="fill-faint text-small"
              textAnchor={at === stops.length - 1 ? "end" : "middle"}
              dx={at === stops.length - 1 ? 20 : 0}
            >
              {lasts}
            </text>
          </g>
        );
      })}
    </svg>
  );
}
