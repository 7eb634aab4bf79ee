import { ChevronRight } from "lucide-react";
import { Fragment, useState } from "react";
import { Link } from "react-router";
import type { Call } from "../api/client";
import { clock, ms, show, when } from "../words";
import { CopyButton } from "./basics";
import { useNow } from "../useNow";

/** The last calls, newest first; a row opens to what went in and what came back. */
export function CallsTable({ calls }: { calls: Call[] }) {
  const now = useNow();
  const [open, setOpen] = useState<string | null>(null);
  return (
    <table className="figures w-full">
      <thead>
        <tr>
          <th className="w-6">
            <span className="sr-only">open</span>
          </th>
          <th>time</th>
          <th className="w-full">answer</th>
          <th>token</th>
          <th>version</th>
          <th className="num">status</th>
          <th className="num">rows</th>
          <th className="num">odd</th>
          <th className="num">in batch</th>
          <th className="num">queue ms</th>
          <th className="num">worker ms</th>
          <th className="num">total ms</th>
        </tr>
      </thead>
      <tbody>
        {calls.map((call) => {
          const isOpen = open === call.request_id;
          return (
            <Fragment key={call.request_id}>
              <tr className="cursor-pointer hover:bg-sunk" onClick={() => setOpen(isOpen ? null : call.request_id)}>
                <td>
                  <button
                    type="button"
                    aria-expanded={isOpen}
                    aria-label={`call at ${clock(call.at)}`}
                    className="flex items-center text-faint"
                  >
                    <ChevronRight size={14} className={isOpen ? "rotate-90" : ""} aria-hidden />
                  </button>
                </td>
                <td className="font-mono" title={call.at}>
                  {now - Date.parse(call.at) > 86_400_000 ? when(call.at) : clock(call.at)}
                </td>
                <td className={`max-w-0 truncate ${call.status >= 400 ? "text-brick" : ""}`}>
                  {summary(call)}
                  {call.odd_reason && <span className="ml-3 text-small text-amber">odd: {call.odd_reason}</span>}
                </td>
                <td className="text-soft">{call.token ?? "–"}</td>
                <td className="font-mono text-soft">{call.version ?? "–"}</td>
                <td className={`num ${call.status >= 400 ? "font-semibold text-brick" : ""}`}>{call.status}</td>
                <td className="num">{call.rows || "–"}</td>
                <td className={`num ${call.odd_reason ? "font-semibold text-amber" : "text-faint"}`} title={call.odd_reason ?? undefined}>
                  {call.odd == null ? "–" : call.odd.toFixed(1)}
                </td>
                <td className="num">{call.batch_rows ?? "–"}</td>
                <td className="num">{ms(phase(call, "queue"))}</td>
                <td className="num">{ms(phase(call, "worker"))}</td>
                <td className="num">{ms(call.total_us / 1000)}</td>
              </tr>
              {isOpen && (
                <tr className="border-t-0!">
                  <td />
                  <td colSpan={11} className="pb-3">
                    <p className="flex items-baseline gap-2 text-small text-faint">
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
                  </td>
                </tr>
              )}
            </Fragment>
          );
        })}
      </tbody>
    </table>
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
  const said = call.answer as Record<string, unknown> | null;
  if (said === null) return "";
  if (call.status >= 400) return String(said.detail ?? said.title ?? "");
  const all = (said.answers ?? [said.answer]) as Record<string, unknown>[];
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
