import { useDeferredValue, useState } from "react";
import { Link } from "react-router";
import type { LogLine } from "../api/client";
import { type LogSearch, useLogs } from "../api/queries";
import { Card, Mono, Segments } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { SelectMenu } from "../parts/SelectMenu";
import { Serves } from "../parts/Serves";
import { type Column, DataTable } from "../table/DataTable";
import { useNow } from "../useNow";
import { usePageParams } from "../usePageParams";
import { clock, clockOrDay, plural } from "../words";

const LEVELS = ["info", "warning", "error"] as const;
const SPANS = { "1": "the last hour", "6": "the last 6 hours", "24": "the last day", "168": "the last week" };
const USUAL = { level: "info", hours: "1" };

/** What the service, its workers and their code have said, on all nodes. */
export function LogsPage() {
  const [params, set] = usePageParams();
  const now = useNow();
  const [typed, setTyped] = useState(params.get("contains") ?? "");
  const contains = useDeferredValue(typed.trim());
  const level = (LEVELS as readonly string[]).includes(params.get("level") ?? "") ? params.get("level")! : USUAL.level;
  const request = params.get("request") ?? "";
  const hours = request ? "168" : (params.get("hours") ?? USUAL.hours);
  const about = params.get("about") ?? "";
  const search: LogSearch = {
    level,
    hours: Number(hours),
    ...(about && { about }),
    ...(contains.length > 1 && { contains }),
    ...(request && { request_id: request }),
  };
  const logs = useLogs(search);
  const lines = logs.data?.lines ?? [];
  const silent = logs.data?.silent ?? [];
  const bad = lines.filter((line) => line.level !== "info").length;
  const command = [
    "lamppost logs",
    about,
    request && `--request ${request}`,
    level !== "info" && `--level ${level}`,
    contains.length > 1 && `--contains '${contains}'`,
    `--since ${hours}h --follow`,
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <>
      <h1 className="text-title font-semibold">Logs</h1>
      <p className="mt-1 text-lead text-soft">
        {logs.data === undefined
          ? "\u00a0"
          : lines.length
            ? `${plural(lines.length, "line", "lines")}, ${bad ? `${bad} of them warnings or errors` : "none of them a warning"}.`
            : "Nothing was said."}
        {silent.length > 0 && <span className="text-brick"> No answer from {silent.join(", ")}: lines of theirs are missing.</span>}
      </p>
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <input
          className="control max-w-72"
          aria-label="search the log"
          placeholder="a text in the message"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        <input
          key={about}
          className="control max-w-56"
          aria-label="only about"
          placeholder="endpoint, version, node …"
          defaultValue={about}
          onBlur={(event) => set("about", event.target.value.trim())}
          onKeyDown={(event) => event.key === "Enter" && set("about", event.currentTarget.value.trim())}
        />
        <Segments
          label="the least level"
          all={LEVELS}
          chosen={level as (typeof LEVELS)[number]}
          onChoose={(chosen) => set("level", chosen)}
        />
        <SelectMenu
          label="how far back"
          className="ml-auto w-44"
          value={hours}
          options={Object.entries(SPANS).map(([value, text]) => ({ value, text }))}
          onChange={(chosen) => set("hours", chosen)}
          disabled={request !== ""}
        />
      </div>
      {request && (
        <p className="mt-2 text-soft">
          Only of the call{" "}
          <Link to={`/calls/${request}`} className="underline hover:text-ink">
            <Mono>{request}</Mono>
          </Link>
          .{" "}
          <button type="button" className="underline hover:text-ink" onClick={() => set("request", "")}>
            Show all
          </button>
        </p>
      )}
      <div className="mt-4">
        <QueryState
          query={logs}
          loading="the log"
          isEmpty={(all) => !all.lines.length}
          empty={
            <p className="text-soft">
              There are no such lines. Workers, their code and the service write here: a package that prints something, for example.
            </p>
          }
        >
          {(all) => (
            <Card title="Lines" aside={<span className="text-small text-faint">newest first</span>}>
              <DataTable
                label="log"
                columns={columns(new Set(all.lines.map((line) => line.node)).size, now)}
                rows={all.lines}
                rowKey={keyOf}
                rowName={(line) => `${line.level} at ${clock(at(line))}`}
                rowClass={(line) => (line.level === "info" ? "" : line.level === "warning" ? "text-amber" : "text-brick")}
                details={(line) => <Details line={line} onAbout={(name) => set("about", name)} />}
                height={720}
              />
            </Card>
          )}
        </QueryState>
      </div>
      <p className="mt-3 text-small text-faint">
        <Mono>{command}</Mono>
      </p>
    </>
  );
}

const keyOf = (line: LogLine): string => `${line.node} ${line.number}`;
const at = (line: LogLine): string => new Date(line.at * 1_000).toISOString();

/** nodes : how many have lines; of one alone its name is left out at first. now : the present, by which lines of other days get a date. */
const columns = (nodes: number, now: number): Column<LogLine>[] => [
  {
    id: "time",
    width: 124,
    value: at,
    cell: (line) => clockOrDay(at(line), now),
    className: "font-mono",
  },
  { id: "level", width: 76, value: (line) => line.level },
  { id: "node", hidden: nodes < 2, width: 124, value: (line) => line.node, className: "font-mono text-small text-soft" },
  { id: "source", width: 104, value: (line) => line.source, className: "text-soft" },
  {
    id: "version",
    width: 136,
    value: (line) => line.version,
    cell: (line) => (line.version ? <Serves summary={line.version} /> : "–"),
    className: "font-mono",
  },
  { id: "message", grow: true, value: (line) => line.message, cell: (line) => <Serves summary={line.message} /> },
  { id: "worker", hidden: true, numeric: true, width: 72, value: (line) => line.worker },
  { id: "request", hidden: true, width: 280, value: (line) => line.request_id, className: "font-mono text-small" },
];

/** The whole line, and where to go on from it. */
function Details({ line, onAbout }: { line: LogLine; onAbout: (name: string) => void }) {
  const names = [line.version, line.node, line.source, line.worker === null ? null : String(line.worker)].filter((name) => name !== null);
  return (
    <>
      <p className="flex flex-wrap gap-x-4 text-soft">
        {line.request_id && (
          <Link to={`/calls/${line.request_id}`} className="underline hover:text-ink">
            the call
          </Link>
        )}
        {names.map((name) => (
          <button key={name} type="button" className="underline hover:text-ink" onClick={() => onAbout(name)}>
            only {name === String(line.worker) ? `worker ${name}` : name}
          </button>
        ))}
      </p>
      <pre className="mt-2 max-h-80 overflow-auto rounded-small bg-sunk p-3 font-mono text-small break-words whitespace-pre-wrap text-ink">
        {line.message}
        {line.traceback && `\n${line.traceback}`}
      </pre>
    </>
  );
}
