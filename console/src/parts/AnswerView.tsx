import type { Answered, Field } from "../api/client";
import { ms, show } from "../words";
import { CopyButton, Mono } from "./basics";

const PHASES = ["token", "read", "validate", "queue", "worker", "answer"] as const;

/** An answer as a person wants to see it: the label large, its scores as bars, who gave it, and how long it took. */
export function AnswerView({ answered, fields }: { answered: Answered; fields: Field[] }) {
  const label = answered.answer.label;
  const rest = fields.filter((field) => field.name !== "label" && field.kind !== "vector");
  return (
    <div>
      {typeof label === "string" && (
        <p className="text-title font-semibold text-amber" data-testid="label">
          {label}
        </p>
      )}
      {rest.map((field) => (
        <p key={field.name} className="mt-1">
          <span className={`font-semibold text-amber ${field.kind === "tensor" ? "font-mono break-all" : "text-title"}`}>
            {show(answered.answer[field.name])}
          </span>{" "}
          <span className="text-soft">
            {[field.unit, field.name.toLowerCase() === field.unit?.toLowerCase() ? null : field.name].filter(Boolean).join(" ")}
          </span>
        </p>
      ))}
      {fields
        .filter((field) => field.kind === "vector")
        .map((field) => (
          <Scores
            key={field.name}
            name={field.name === "scores" ? null : field.name}
            scores={answered.answer[field.name] as Record<string, number>}
            top={String(field.name === "scores" ? label : answered.answer[field.name.replace(/_scores$/, "")])}
          />
        ))}
      {answered.answers.length > 1 && <p className="mt-2 text-soft">That is the first of {answered.answers.length} rows.</p>}
      {answered.changed.map((change) => (
        <p key={`${change.row} ${change.field}`} className="mt-2 text-small text-soft">
          <Mono>{change.field}</Mono>: {change.given} was {change.left_out ? "left out, it is no field" : <>taken as {change.taken}</>}.
        </p>
      ))}
      <dl className="mt-4 grid grid-cols-[auto_1fr] items-baseline gap-x-4 gap-y-1 text-small">
        <dt className="text-faint">version</dt>
        <dd>
          <Mono className="text-amber">{answered.version}</Mono>
        </dd>
        <dt className="text-faint">took</dt>
        <dd>
          <strong className="font-semibold">{ms(answered.timing.total)} ms</strong>{" "}
          <span className="text-faint">
            {"of it "}
            {PHASES.filter((phase) => (answered.timing[phase] ?? 0) >= 0.1)
              .map((phase) => `${phase} ${ms(answered.timing[phase])}`)
              .join(" · ")}
          </span>
        </dd>
        <dt className="text-faint">request</dt>
        <dd className="flex min-w-0 items-baseline gap-2">
          <Mono className="truncate text-soft">{answered.requestId}</Mono>
          <CopyButton text={answered.requestId} label="Copy" />
        </dd>
      </dl>
    </div>
  );
}

/** Scores as bars, the highest first; the label that was given is amber, what it is held against slate-blue. */
function Scores({ name, scores, top }: { name: string | null; scores: Record<string, number>; top: string }) {
  const ordered = Object.entries(scores).sort((a, b) => b[1] - a[1]);
  return (
    <table className="mt-3 w-full" aria-label={name ?? "score per label"}>
      {name && <caption className="text-left text-small text-faint">{name}</caption>}
      <tbody>
        {ordered.map(([name, score]) => (
          <tr key={name}>
            <th scope="row" className="h-7 w-px pr-3 text-left font-mono font-normal whitespace-nowrap">
              {name}
            </th>
            <td>
              <div className="h-3 rounded-small bg-sunk">
                <div
                  className={`h-3 rounded-small transition-[width] ${name === top ? "bg-amber-fill" : "bg-slate-fill"}`}
                  style={{ width: `${Math.max(0.5, Math.min(1, Math.max(0, score)) * 100)}%` }}
                />
              </div>
            </td>
            <td className="w-px pl-3 text-right font-mono whitespace-nowrap">{(score * 100).toFixed(1)} %</td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
