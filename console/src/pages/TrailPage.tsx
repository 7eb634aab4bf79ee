import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Entry } from "../api/client";
import { useTrail } from "../api/queries";
import { Card, Mono } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Serves } from "../parts/Serves";
import { Term, Truncated } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { ago, clock, count, when } from "../words";

/** Who changed what, when, and from where? */
export function TrailPage() {
  const [params, setParams] = useSearchParams();
  const [typed, setTyped] = useState("");
  const search = useDeferredValue(typed.trim());
  const subject = params.get("subject") ?? "";
  const trail = useTrail(subject, search);
  const found = trail.data;
  return (
    <>
      <div className="flex items-end justify-between gap-x-6 gap-y-2 max-lg:flex-wrap">
        <div>
          <h1 className="text-title font-semibold">
            <Term word="trail">Trail</Term>
          </h1>
          <p className="mt-1 text-lead text-soft">
            {found?.[0] ? (
              <>
                Last change {ago(found[0].at)}, by {found[0].token}: {found[0].action} <Mono>{found[0].subject}</Mono>.
              </>
            ) : (
              "Every change, by whom, when, and from what to what. It is only ever added to."
            )}
          </p>
        </div>
        <input
          className="control max-w-72"
          aria-label="search the trail"
          placeholder="words, names, reasons"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
      </div>
      {subject && (
        <p className="mt-2 text-soft">
          Only of <Mono>{subject}</Mono>.{" "}
          <button type="button" className="underline hover:text-ink" onClick={() => setParams({})}>
            Show all
          </button>
        </p>
      )}
      <div className="mt-4">
        <QueryState
          query={trail}
          loading="the trail"
          isEmpty={(all) => !all.length}
          empty={<p className="text-soft">Nothing like that is on the trail.</p>}
        >
          {(all) => (
            <div className="grid grid-cols-[minmax(0,1fr)] items-start gap-4 *:min-w-0 min-[1500px]:grid-cols-[minmax(0,1fr)_240px]">
              <Card title="Changes" aside={<span className="text-small text-faint">newest first; a row opens to before and after</span>}>
                <DataTable
                  label="trail"
                  columns={COLUMNS}
                  rows={all}
                  rowKey={(entry) => String(entry.number)}
                  rowName={(entry) => `${entry.action} ${entry.subject}`}
                  details={(entry) => <Details entry={entry} />}
                  height={720}
                />
              </Card>
              <Summary all={all} onSearch={setTyped} />
            </div>
          )}
        </QueryState>
      </div>
      <p className="mt-4 text-small text-faint">
        <Mono>{`lamppost trail${subject ? ` ${subject}` : ""}${search ? ` --search "${search}"` : ""}`}</Mono> ·{" "}
        <Mono>lamppost trail --ndjson &gt; trail.ndjson</Mono>
      </p>
    </>
  );
}

const COLUMNS: Column<Entry>[] = [
  { id: "when", width: 132, value: (entry) => entry.at, cell: (entry) => `${when(entry.at)}${clock(entry.at).slice(5, 8)}` },
  { id: "token", width: 112, value: (entry) => entry.token },
  { id: "from", width: 104, value: (entry) => entry.address ?? "the service", className: "font-mono text-small text-soft" },
  {
    id: "did",
    width: 152,
    value: (entry) => entry.action,
    className: (entry) => (entry.action === "overrode review" ? "font-semibold text-brick" : ""),
  },
  { id: "to", width: 152, value: (entry) => entry.subject, className: "font-mono" },
  {
    id: "what",
    grow: true,
    value: what,
    cell: (entry) => <Serves summary={what(entry)} />,
    className: "text-soft",
  },
  { id: "reason", width: 160, hidden: true, value: (entry) => entry.note, className: "text-soft" },
];

function what(entry: Entry): string {
  if (entry.action.includes("rollout") && entry.note) return entry.note;
  return [changeOf(entry), entry.note].filter(Boolean).join("; ");
}

/** One change: what was and what is, side by side, and where to go on. */
function Details({ entry }: { entry: Entry }) {
  const name = entry.subject.split("@")[0]!;
  return (
    <div className="pb-1">
      <p className="flex flex-wrap gap-x-4 text-soft">
        <Link to={`/trail?subject=${name}`} className="underline">
          only of {name}
        </Link>
        {entry.subject.includes("@") ? (
          <Link to={`/models/${entry.subject.replace("@", "/")}`} className="underline">
            the version
          </Link>
        ) : (
          <Link to={`/endpoints/${name}`} className="underline">
            the endpoint
          </Link>
        )}
        {entry.note && <span>Reason: {entry.note}</span>}
      </p>
      <div className="mt-2 grid grid-cols-2 gap-4 *:min-w-0">
        <Side title="before" value={entry.before} />
        <Side title="after" value={entry.after} />
      </div>
    </div>
  );
}

const Side = ({ title, value }: { title: string; value: unknown }) => (
  <div>
    <p className="text-small text-faint">{title}</p>
    <pre className="mt-1 max-h-64 overflow-auto rounded-small bg-sunk p-3 font-mono text-small break-words whitespace-pre-wrap">
      {value === null || value === undefined ? "nothing" : JSON.stringify(value, null, 1)}
    </pre>
  </div>
);

/** Who changed how much, and what was changed most: a press shows only that. */
function Summary({ all, onSearch }: { all: Entry[]; onSearch: (words: string) => void }) {
  return (
    <aside className="grid content-start gap-4 max-[1500px]:hidden" aria-label="summary">
      {(
        [
          ["By whom", (entry: Entry) => entry.token],
          ["What was done", (entry: Entry) => entry.action],
          ["Changed most", (entry: Entry) => entry.subject.split("@")[0]!],
        ] as const
      ).map(([title, of]) => (
        <Card key={title} title={title}>
          <ul>
            {mostFrequent(all.map(of)).map(([name, many]) => (
              <li key={name} className="flex h-7 items-center justify-between gap-3">
                <button type="button" className="min-w-0 hover:underline" onClick={() => onSearch(name)}>
                  <Truncated focusable={false}>{name}</Truncated>
                </button>
                <span className="text-soft">{count(many)}</span>
              </li>
            ))}
          </ul>
        </Card>
      ))}
    </aside>
  );
}

function mostFrequent(names: string[]): [string, number][] {
  const found = new Map<string, number>();
  for (const name of names) found.set(name, (found.get(name) ?? 0) + 1);
  return [...found].sort((a, b) => b[1] - a[1]).slice(0, 6);
}

/** What an entry changed, in a few words. */
function changeOf(entry: Entry): string {
  const before = words(entry.before);
  const after = words(entry.after);
  return before && after && before !== after ? `${before} → ${after}` : after || before;
}

function words(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (typeof value !== "object") return String(value);
  const setup = value as Record<string, unknown>;
  if (typeof setup.version === "string" && Object.keys(setup).length <= 4 && !("review" in setup)) return setup.version;
  const shares = (setup.shares as { of?: Record<string, number> } | undefined)?.of;
  if (shares)
    return Object.entries(shares)
      .map(([name, share]) => `${name} ${share} %`)
      .join(", ");
  return Object.entries(setup)
    .filter(([, part]) => part !== null && typeof part !== "object")
    .map(([key, part]) => `${key} ${typeof part === "string" && part.length === 64 ? part.slice(0, 12) : String(part)}`)
    .join(", ");
}
