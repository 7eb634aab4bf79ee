import { CircleCheck, Eye, TriangleAlert } from "lucide-react";
import type { State } from "./queries";

const MARKS = {
  fine: { Icon: CircleCheck, word: "fine", tone: "text-slate" },
  look: { Icon: Eye, word: "have a look", tone: "text-amber" },
  act: { Icon: TriangleAlert, word: "act", tone: "text-brick" },
} as const;

/** What an answer asks for: a shape and a word, never colour alone. Nothing where the owner has not said it. */
export function StateMark({ state, large = false }: { state: State; large?: boolean }) {
  if (!state) return null;
  const { Icon, word, tone } = MARKS[state];
  return (
    <span className={`inline-flex items-center gap-1 whitespace-nowrap ${tone} ${large ? "" : "text-small"}`}>
      <Icon size={large ? 22 : 14} aria-hidden /> {word}
    </span>
  );
}
