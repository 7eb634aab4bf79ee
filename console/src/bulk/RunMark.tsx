// The state of a run: a mark of its own shape for each, and the word.
import { Ban, Check, Circle, CircleDashed, CircleDot, CircleStop } from "lucide-react";
import type { Run } from "./queries";

const MARKS = {
  waiting: { Icon: CircleDashed, tone: "text-soft" },
  running: { Icon: CircleDot, tone: "text-amber font-semibold" },
  publishing: { Icon: CircleDot, tone: "text-amber font-semibold" },
  stopping: { Icon: Circle, tone: "text-amber" },
  stopped: { Icon: CircleStop, tone: "text-soft" },
  failed: { Icon: Ban, tone: "text-brick font-semibold" },
  finished: { Icon: Check, tone: "text-slate" },
} as const satisfies Record<Run["state"], { Icon: typeof Check; tone: string }>;

export function RunMark({ state }: { state: Run["state"] }) {
  const { Icon, tone } = MARKS[state];
  return (
    <span className={`inline-flex items-center gap-1.5 whitespace-nowrap ${tone}`}>
      <Icon size={14} aria-hidden /> {state}
    </span>
  );
}
