import { Link } from "react-router";
import type { Call } from "../api/client";
import { type Column, DataTable } from "../table/DataTable";
import { useNow } from "../useNow";
import { clock, clockOrDay, ms, show } from "../words";
import { CopyButton } from "./basics";

const wrong = (call: Call): boolean => call.status >= 400;

/** now : the present, by which calls of other days get a date. */
const columns = (now: number): Column<Call>[] => [
  {
    id: "time",
    width: 116,
    value: (call) => call.at,
    cell: (call) => clockOrDay(call.at, now),
    className: "font-mono",
  },
  {
    id: "answer",
    grow: true,
    value: summary,
    cell: (call) => (
      <>
        {summary(call)}
        {call.odd_reason && <span className="ml-3 text-small text-amber">odd: {call.odd_reason}</span>}
      </>
    ),
    className: (call) => (wrong(call) ? "text-brick" : ""),
  },
  { id: "token", width: 88, value: (call) => call.token, className: "text-soft" },
  { id: "version", width: 128, value: (call) => call.version, className: "font-mono text-soft" },
  {
    id: "status",
    numeric: true,
    width: 60,
    value: (call) => call.status,
    className: (call) => (wrong(call) ? "font-semibold text-brick" : ""),
  },
  { id: "rows", hidden: true, numeric: true, width: 56, value: (call) => call.rows || null },
  {
    id: "odd",
    term: "odd row",
    numeric: true,
    width: 56,
    value: (call) => call.odd,
    cell: (call) => call.odd?.toFixed(1) ?? "–",
    className: (call) => (call.odd_reason ? "font-semibold text-amber" : "text-faint"),
  },
  { id: "in batch", hidden: true, numeric: true, width: 72, value: (call) => call.batch_rows },
  { id: "queue ms", numeric: true, width: 72, value: (call) => phase(call, "queue"), cell: (call) => ms(phase(call, "queue")) },
  { id: "worker ms", numeric: true, width: 76, value: (call) => phase(call, "worker"), cell: (call) => ms(phase(call, "worker")) },
  { id: "total ms", numeric: true, width: 68, value: (call) => call.total_us / 1_000, cell: (call) => ms(call.total_us / 1_000) },
  { id: "request", hidden: true, width: 280, value: (call) => call.request_id, className: "font-mono text-small" },
];

/** The last calls, newest first; a row opens to what went in and what came back. */
export function CallsTable({ calls }: { calls: Call[] }) {
  const now = useNow();
  return (
    <DataTable
      label="calls"
      columns={columns(now)}
      rows={calls}
      rowKey={(call) => call.request_id}
      rowName={(call) => `call at ${clock(call.at)}`}
      details={(call) => (
        <>
          <p className="flex flex-wrap items-baseline gap-2 text-small text-faint">
            request{" "}
            <Link to={`/calls/${call.request_id}`} className="font-mono text-soft underline hover:text-ink">
              {call.request_id}
            </Link>{" "}
            <CopyButton text={call.request_id} /> {call.odd_reason && <span className="text-amber">odd: {call.odd_reason}</span>}{" "}
            {call.brought_by && <span>answered elsewhere: {call.brought_by}</span>}
          </p>
          <div className="mt-1 grid grid-cols-2 gap-4">
            <Body title="what went in" value={call.input} />
            <Body title="what came back" value={call.answer} />
          </div>
        </>
      )}
    />
  );
}

function Body({ title, value }: { title: string; value: unknown }) {
  return (
    <div className="min-w-0">
      <p className="text-small text-faint">{title}</p>
      <pre className="mt-1 max-h-64 overflow-auto rounded-small bg-sunk p-3 font-mono text-small whitespace-pre-wrap break-words">
        {value === null ? "not kept" : JSON.stringify(value, null, 1)}
      </pre>
    </div>
  );
}

const phase = (call: Call, name: string): number | null => {
  const us = call.phases_us[name];
  return us === undefined ? null : us / 1000;
};

/** The answer in a few words: the label with its score, the number, or what was wrong. */
function summary(call: Call): string {
  const answer = call.answer as Record<string, unknown> | null;
  if (answer === null) return "";
  if (call.status >= 400) return String(answer.detail ?? answer.title ?? "");
  const all = (answer.answers ?? [answer.answer]) as Record<string, unknown>[];
  const first = all[0] ?? {};
  const more = all.length > 1 ? ` and ${all.length - 1} more` : "";
  if (typeof first.label === "string") {
    const score = (first.scores as Record<string, number> | undefined)?.[first.label];
    return `${first.label}${score === undefined ? "" : ` ${Math.round(score * 100)} %`}${more}`;
  }
  return (
    Object.entries(first)
      .map(([name, value]) => `${name} ${show(value)}`)
      .join(", ") + more
  );
}
