import { api, type EndpointPage as Page, good, type Reading, type Rollout } from "../api/client";
import { useMay } from "../api/queries";
import { ago, count, plural, short } from "../words";
import { Bar } from "./Bar";
import { Button, Card, Mono, Trouble } from "./basics";
import { Term } from "./Tip";
import { VersionLink } from "./VersionLink";
import { useNow } from "../useNow";
import { useServiceChange } from "../api/useServiceChange";

const DAY_MS = 86_400_000;

/** A rollout as a track: the steps it has taken and has before it, its guards' readings beside their limits, and what to do about it. */
export function RolloutTrack({ page }: { page: Page }) {
  const rollout = page.rollout;
  const now = useNow();
  if (!rollout || (rollout.ended_at && now - Date.parse(rollout.ended_at) > DAY_MS)) return null;
  return (
    <Card
      title={rollout.ended_at ? "Last rollout" : "Rollout"}
      term="rollout"
      className="mt-4"
      aside={<span className="text-small text-faint">{`lamppost rollout ${page.name} --follow`}</span>}
    >
      <p>
        <VersionLink name={rollout.old} /> → <VersionLink name={rollout.new} live />, <State rollout={rollout} />{" "}
        <span className="text-soft">{rollout.reason}</span>
      </p>
      {rollout.ended_at ? (
        <details className="mt-2">
          <summary className="text-small text-soft hover:text-ink">its steps and what its guards read</summary>
          <Track rollout={rollout} />
          {rollout.readings.length > 0 && <Guards rollout={rollout} />}
        </details>
      ) : (
        <>
          <Track rollout={rollout} />
          {rollout.readings.length > 0 && <Guards rollout={rollout} />}
          <Steering page={page} rollout={rollout} />
        </>
      )}
    </Card>
  );
}

function State({ rollout }: { rollout: Rollout }) {
  const words = {
    running: "goes on.",
    paused: "paused.",
    done: `done ${ago(rollout.ended_at ?? "")}.`,
    back: `went back ${ago(rollout.ended_at ?? "")}.`,
    ended: "ended by hand.",
  }[rollout.state];
  return <span className={`font-semibold ${rollout.state === "back" ? "text-brick" : ""}`}>{words}</span>;
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

const NAMES: Record<Reading["guard"], string> = {
  errors: "failures, times as many",
  p99: "part of calls that are slow",
  p99_ms: "part of calls over the limit",
  answers: "answers apart",
  disagreement: "part that disagrees",
  wrong: "wrong, times as often",
};

function Guards({ rollout }: { rollout: Rollout }) {
  return (
    <table className="figures mt-3 w-full table-fixed">
      <thead>
        <tr>
          <th className="w-48">
            <Term word="guard">guard</Term>
          </th>
          <th className="num w-16">now</th>
          <th className="num w-16">limit</th>
          <th className="w-48 !pl-4">evidence</th>
          <th>
            <Mono>{rollout.new}</Mono>
          </th>
        </tr>
      </thead>
      <tbody>
        {rollout.readings.map((one) => (
          <tr key={one.guard}>
            <td>{NAMES[one.guard]}</td>
            <td className={`num ${one.evidence >= 1 ? "font-semibold text-brick" : ""}`}>{one.value === null ? "–" : short(one.value)}</td>
            <td className="num text-slate">{short(one.limit)}</td>
            <td className="!pl-4">
              <Evidence reading={one} />
            </td>
            <td className="py-1 !whitespace-normal text-soft">{one.summary}</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

/** How far the evidence is towards going back. */
function Evidence({ reading }: { reading: Reading }) {
  const part = Math.min(1, reading.evidence);
  return (
    <span className="flex items-center gap-2">
      <Bar className="w-24" part={part} least={0.02} tone={part >= 1 ? "trouble" : "held"} label="of what takes the rollout back" />
      <span className="text-small text-faint">{part >= 1 ? "went back" : part > 0.3 ? "watching" : "calm"}</span>
    </span>
  );
}

type Act = "pause" | "resume" | "finish" | "back";

function Steering({ page, rollout }: { page: Page; rollout: Rollout }) {
  const may = useMay("point");
  const act = useServiceChange("endpoint", async (what: Act) =>
    good(await api.POST("/api/endpoints/{endpoint}/rollout/{act}", { params: { path: { endpoint: page.name, act: what } } })),
  );
  if (!may) return null;
  const share = rollout.plan.steps[rollout.step]?.share ?? 0;
  return (
    <div className="mt-4 flex flex-wrap items-center gap-3">
      {rollout.state === "paused" ? (
        <Button onClick={() => act.mutate("resume")}>Resume</Button>
      ) : (
        <Button onClick={() => act.mutate("pause")}>Pause at {share} %</Button>
      )}
      <Button onClick={() => act.mutate("finish")}>Finish now: all to {rollout.new}</Button>
      <Button onClick={() => act.mutate("back")}>Take it back: all to {rollout.old}</Button>
      <span className="text-small text-faint">
        {plural(rollout.plan.steps.length - rollout.step, "step")} to go; at most{" "}
        {(100 * (rollout.plan.guards?.risk ?? 0.01)).toPrecision(1)} % of rollouts of an equal version go back.
      </span>
      {act.error && <Trouble error={act.error} />}
    </div>
  );
}
