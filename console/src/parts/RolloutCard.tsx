import type { ReactNode } from "react";
import type { Reading } from "../api/client";
import { useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { ago, short } from "../words";
import { Bar } from "./Bar";
import { Button, Card, Mono, Trouble } from "./basics";
import { Disclosure } from "./Disclosure";
import { Term } from "./Tip";
import { VersionLink } from "./VersionLink";

/** What a rollout over calls and one over outposts have in common. */
export type AnyRollout = {
  old: string;
  new: string;
  state: "running" | "paused" | "done" | "back" | "ended";
  reason: string;
  readings: Reading[];
  ended_at: string | null;
};
export type RolloutAct = "pause" | "resume" | "finish" | "back";

/** A rollout: from which version to which, how far it is, its guards' readings beside their limits, and what to do about it. */
export function RolloutCard({
  rollout,
  title,
  command,
  progress,
  steer,
  present,
  note,
}: {
  rollout: AnyRollout;
  title: string;
  command: string;
  progress: ReactNode;
  steer: (act: RolloutAct) => Promise<unknown>;
  present: string;
  note: string;
}) {
  const details = (
    <>
      {progress}
      {rollout.readings.length > 0 && <Guards rollout={rollout} />}
    </>
  );
  return (
    <Card
      title={rollout.ended_at ? `Last ${title.toLowerCase()}` : title}
      term="rollout"
      aside={<span className="text-small text-faint">{command}</span>}
    >
      <p>
        <VersionLink name={rollout.old} /> → <VersionLink name={rollout.new} live />, <State rollout={rollout} />{" "}
        <span className="text-soft">{rollout.reason}</span>
      </p>
      {rollout.ended_at ? (
        <Disclosure line="its steps and what its guards read">{details}</Disclosure>
      ) : (
        <>
          {details}
          <Steering rollout={rollout} steer={steer} present={present} note={note} />
        </>
      )}
    </Card>
  );
}

function State({ rollout }: { rollout: AnyRollout }) {
  const words = {
    running: "goes on.",
    paused: "paused.",
    done: `done ${ago(rollout.ended_at ?? "")}.`,
    back: `went back ${ago(rollout.ended_at ?? "")}.`,
    ended: "ended by hand.",
  }[rollout.state];
  return <span className={`font-semibold ${rollout.state === "back" ? "text-brick" : ""}`}>{words}</span>;
}

const NAMES: Record<Reading["guard"], string> = {
  errors: "failures, times as many",
  p99: "part of calls that are slow",
  p99_ms: "part of calls over the limit",
  answers: "answers apart",
  disagreement: "part that disagrees",
  wrong: "wrong, times as often",
};

function Guards({ rollout }: { rollout: AnyRollout }) {
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

/** What a person may do with a rollout that goes on. present : where it would stay. */
function Steering({
  rollout,
  steer,
  present,
  note,
}: {
  rollout: AnyRollout;
  steer: (act: RolloutAct) => Promise<unknown>;
  present: string;
  note: string;
}) {
  const may = useMay("point");
  const act = useServiceChange("endpoint", steer);
  if (!may) return null;
  return (
    <div className="mt-4 flex flex-wrap items-center gap-3">
      {rollout.state === "paused" ? (
        <Button onClick={() => act.mutate("resume")}>Resume</Button>
      ) : (
        <Button onClick={() => act.mutate("pause")}>Pause {present}</Button>
      )}
      <Button onClick={() => act.mutate("finish")}>Finish now: all to {rollout.new}</Button>
      <Button onClick={() => act.mutate("back")}>Take it back: all to {rollout.old}</Button>
      <span className="text-small text-faint">{note}</span>
      {act.error && <Trouble error={act.error} />}
    </div>
  );
}

/** How often a rollout of an equal version goes back at most, in words. */
export const riskNote = (risk: number | undefined) =>
  `at most ${(100 * (risk ?? 0.01)).toPrecision(1)} % of rollouts of an equal version go back.`;
