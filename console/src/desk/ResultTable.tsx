// The rows of a result, a page at a time: the service sorts, filters and searches, so that a hundred thousand rows are as quick as fifty.
import { ArrowDown, ArrowUp, Search } from "lucide-react";
import { type KeyboardEvent, useDeferredValue, useState } from "react";
import { Button, Trouble } from "../parts/basics";
import { count } from "../words";
import { type Result, type ResultRow, type ResultRows, useRows } from "./queries";
import { StateMark } from "./StateMark";

const ROWS = 50;
const SHOWN_COLUMNS = 6;

export function ResultTable({
  endpoint,
  result,
  answer,
  onAnswer,
}: {
  endpoint: string;
  result: Result;
  answer: string | null;
  onAnswer: (label: string | null) => void;
}) {
  const [typed, setTyped] = useState("");
  const search = useDeferredValue(typed.trim());
  const [sort, setSort] = useState<string | null>(null);
  const [paged, setPaged] = useState({ of: "", at: 0 });
  const [place, setPlace] = useState<number | null>(null);
  const of = JSON.stringify([answer, search, sort]);
  const at = paged.of === of ? paged.at : 0; // another choice of rows begins at its first page
  const setAt = (next: number): void => setPaged({ of, at: next });
  const rows = useRows(endpoint, result.name, { answer, search, sort, at }, ROWS);
  const page = rows.data;
  const chosen = page?.rows.find((row) => row.place === place) ?? page?.rows[0] ?? null;
  const chosenText = result.counts.find((one) => one.label === answer)?.text;

  function sortBy(name: string): void {
    setSort((before) => (before === name ? `-${name}` : before === `-${name}` ? null : name));
  }

  return (
    <section aria-label="rows" className="rounded-card border border-line bg-card p-4">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h2 className="font-semibold" aria-live="polite">
          {page ? `${count(page.matching)} of ${count(result.rows - result.rejects)} rows` : "Rows"}
          {chosenText && (
            <span className="font-normal text-soft">
              {" "}
              with “{chosenText}”{" "}
              <button type="button" className="text-small underline" onClick={() => onAnswer(null)}>
                show all
              </button>
            </span>
          )}
        </h2>
        <label className="relative w-64 max-sm:w-full">
          <Search size={14} className="absolute top-2 left-2 text-faint" aria-hidden />
          <input
            className="control pl-7"
            value={typed}
            placeholder="search in all columns"
            aria-label="search in all columns"
            onChange={(event) => setTyped(event.target.value)}
          />
        </label>
      </div>
      {rows.error && <Trouble error={rows.error} />}
      {page && (
        <div className="mt-3 grid gap-4 lg:grid-cols-[minmax(0,1fr)_300px]">
          <div className="min-w-0">
            <Rows page={page} sort={sort} chosen={chosen} onSort={sortBy} onChoose={setPlace} busy={rows.isPlaceholderData} />
            <div className="mt-3 flex flex-wrap items-center justify-between gap-3 text-small text-soft">
              <span>{page.matching ? `${count(at + 1)} to ${count(Math.min(at + ROWS, page.matching))}` : "no row is like that"}</span>
              <span className="flex gap-2">
                <Button disabled={at === 0} onClick={() => setAt(0)}>
                  First
                </Button>
                <Button disabled={at === 0} onClick={() => setAt(Math.max(0, at - ROWS))}>
                  Back
                </Button>
                <Button disabled={at + ROWS >= page.matching} onClick={() => setAt(at + ROWS)}>
                  Next
                </Button>
              </span>
            </div>
          </div>
          {chosen && <Details columns={page.columns} row={chosen} />}
        </div>
      )}
    </section>
  );
}

function Rows({
  page,
  sort,
  chosen,
  onSort,
  onChoose,
  busy,
}: {
  page: ResultRows;
  sort: string | null;
  chosen: ResultRow | null;
  onSort: (name: string) => void;
  onChoose: (place: number) => void;
  busy: boolean;
}) {
  const shown = page.columns.slice(0, SHOWN_COLUMNS);
  const heads: [string, string][] = [
    ["answer", page.sort_answer],
    ...(page.sort_sure ? ([["sure", page.sort_sure]] as [string, string][]) : []),
    ...shown.map((name): [string, string] => [name, name]),
  ];
  function move(event: KeyboardEvent): void {
    const step = event.key === "ArrowDown" ? 1 : event.key === "ArrowUp" ? -1 : 0;
    if (!step) return;
    event.preventDefault();
    const now = page.rows.findIndex((row) => row.place === chosen?.place);
    const next = page.rows[Math.min(page.rows.length - 1, Math.max(0, now + step))];
    if (next) {
      onChoose(next.place);
      document.getElementById(`row-${next.place}`)?.focus();
    }
  }
  return (
    <div className={`max-h-[460px] overflow-auto border-y border-line ${busy ? "opacity-60" : ""}`}>
      {/* eslint-disable-next-line jsx-a11y/no-noninteractive-element-interactions -- the keys move among rows, which are focused themselves */}
      <table className="w-full" aria-label="the rows; arrows move the choice" onKeyDown={move}>
        <thead className="sticky top-0 bg-card text-small text-faint">
          <tr>
            {heads.map(([text, name]) => (
              <th
                key={`${text} ${name}`}
                className="px-2 py-1 text-left font-normal whitespace-nowrap"
                aria-sort={sort === name ? "ascending" : sort === `-${name}` ? "descending" : "none"}
              >
                <button type="button" className="inline-flex items-center gap-1 hover:text-ink" onClick={() => onSort(name)}>
                  {text}
                  {sort === name && <ArrowUp size={12} aria-hidden />}
                  {sort === `-${name}` && <ArrowDown size={12} aria-hidden />}
                </button>
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {page.rows.map((row) => (
            <tr
              key={row.place}
              id={`row-${row.place}`}
              aria-current={row.place === chosen?.place}
              tabIndex={row.place === chosen?.place ? 0 : -1}
              onFocus={() => onChoose(row.place)}
              onClick={() => onChoose(row.place)}
              className={`h-8 cursor-default border-t border-line whitespace-nowrap ${row.place === chosen?.place ? "bg-amber-wash" : "hover:bg-sunk"} focus-visible:-outline-offset-2`}
            >
              <td className="max-w-72 truncate px-2">
                <span className="mr-2">{row.text}</span>
                <StateMark state={row.state} />
              </td>
              {page.sort_sure && <td className="px-2 tabular-nums">{row.sure === null ? "" : `${Math.round(100 * row.sure)} %`}</td>}
              {shown.map((name, at) => (
                <td key={name} className="max-w-48 truncate px-2">
                  {row.cells[at]}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}

function Details({ columns, row }: { columns: string[]; row: ResultRow }) {
  return (
    <aside aria-label="the chosen row" className="min-w-0 rounded-card bg-sunk p-3">
      <StateMark state={row.state} />
      <p className="font-semibold break-words">{row.text}</p>
      {row.sure !== null && <p className="text-small text-soft">{Math.round(100 * row.sure)} % sure</p>}
      <dl className="mt-2 grid max-h-[360px] gap-1 overflow-y-auto text-small">
        {columns.map((name, at) => (
          <div key={name} className="grid grid-cols-[minmax(0,2fr)_minmax(0,3fr)]! gap-2">
            <dt className="break-words text-soft">{name}</dt>
            <dd className="break-words">{row.cells[at] || "–"}</dd>
          </div>
        ))}
      </dl>
    </aside>
  );
}
