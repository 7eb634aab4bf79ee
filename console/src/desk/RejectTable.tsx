import { count } from "../words";
import type { DeskPage } from "./queries";

type Reject = { row?: number; line?: number; field?: string; fault?: string };

/** Rows that stay without an answer, each with what is wrong with it. all : how many there are. */
export function RejectTable({ rejects, all, desk }: { rejects: Record<string, unknown>[]; all: number; desk: DeskPage }) {
  return (
    <div className="mt-3 max-h-72 overflow-auto" role="region" aria-label="rows without an answer">
      <table className="w-full text-small">
        <thead>
          <tr className="text-left text-faint">
            <th className="py-1 pr-4 text-right font-normal">line</th>
            <th className="py-1 pr-4 font-normal">column</th>
            <th className="py-1 font-normal">what is wrong</th>
          </tr>
        </thead>
        <tbody>
          {(rejects as Reject[]).map((reject, at) => (
            <tr key={at} className="border-t border-line align-top">
              <td className="py-1 pr-4 text-right tabular-nums">{count(reject.line ?? (reject.row ?? 0) + 2)}</td>
              <td className="py-1 pr-4">{reject.field ? (desk.words[reject.field]?.label ?? reject.field) : ""}</td>
              <td className="py-1 break-words">{reject.fault}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {all > rejects.length && <p className="mt-2 text-small text-soft">and {count(all - rejects.length)} more</p>}
    </div>
  );
}
