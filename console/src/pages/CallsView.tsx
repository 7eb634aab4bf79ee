import { useDeferredValue, useMemo, useState } from "react";
import { useNavigate } from "react-router";
import type { Call, EndpointPage } from "../api/client";
import { FOUND_CALLS, type Sought, useSoughtCalls } from "../api/queries";
import { ScatterChart, type ScatterPoint } from "../charts/ScatterChart";
import { Button, Mono, Segments } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { SPAN_HOURS } from "../time/spans";
import { TimeControl } from "../time/TimeControl";
import { usePageSpan } from "../time/usePageSpan";
import { usePageParams } from "../usePageParams";
import { short } from "../words";
import { CallsTable } from "../parts/CallsTable";

/** The calls themselves: found by what is in them, by how odd, slow or wrong they were. */
export function CallsView({ page }: { page: EndpointPage }) {
  const [params, set] = usePageParams();
  const [typed, setTyped] = useState(params.get("contains") ?? "");
  const span = usePageSpan([], "hour");
  const contains = useDeferredValue(typed.trim());
  const number = (name: string): number | undefined => (params.get(name) ? Number(params.get(name)) : undefined);
  const sought: Sought = {
    ...(contains.length > 1 && { contains }),
    ...(number("odd") !== undefined && { odd: number("odd") }),
    ...(number("status") !== undefined && { status: number("status") }),
    ...(number("slower") !== undefined && { slower_ms: number("slower") }),
    ...(span.fixed && { before: new Date(span.fixed.until).toISOString() }),
  };
  const calls = useSoughtCalls(page.name, sought);
  const found = calls.data;
  function older(at: string): void {
    const until = Date.parse(at);
    span.setFixed({ since: until - SPAN_HOURS.hour * 3_600_000, until });
  }
  const toggle = (name: string, value: string, text: string) => (
    <Button
      aria-pressed={params.get(name) === value}
      onClick={() => set(name, params.get(name) === value ? null : value)}
      className={params.get(name) === value ? "border-amber! font-semibold" : ""}
    >
      {text}
    </Button>
  );
  const command = [
    "lamppost tail",
    page.name,
    contains.length > 1 && `--contains '${contains}'`,
    sought.odd !== undefined && `--odd ${sought.odd}`,
    sought.status && `--status ${sought.status}`,
    sought.slower_ms && `--slower ${sought.slower_ms}`,
    "--follow",
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <>
      <div className="mt-4 flex flex-wrap items-center gap-3">
        <input
          className="control max-w-80"
          aria-label="search calls"
          placeholder="a value in the input or answer"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        {toggle("odd", "3", "odd")}
        {toggle("status", "400", "refused or failed")}
        {toggle("status", "500", "failed")}
        <label className="flex items-center gap-2 text-soft">
          slower than
          <input
            className="control w-20!"
            inputMode="decimal"
            aria-label="slower than, ms"
            value={params.get("slower") ?? ""}
            onChange={(event) => /^\d*\.?\d*$/.test(event.target.value) && set("slower", event.target.value)}
          />{" "}
          ms
        </label>
        <span className="ml-auto">
          <TimeControl span={span} />
        </span>
      </div>
      <section className="mt-4 rounded-card border border-line bg-card p-4" aria-label="calls">
        <QueryState
          query={calls}
          loading="calls"
          isEmpty={(all) => !all.length}
          empty={<p className="text-soft">There are no such calls.</p>}
        >
          {(all) => (
            <>
              <CallsChart calls={all} odd={sought.odd ?? null} slower={sought.slower_ms ?? null} onLimit={set} />
              <CallsTable calls={all} />
            </>
          )}
        </QueryState>
      </section>
      <div className="mt-3 flex items-center justify-between">
        <Mono className="text-small text-faint">{command}</Mono>
        {found && found.length === FOUND_CALLS && <Button onClick={() => older(found[found.length - 1]!.at)}>Older</Button>}
      </div>
    </>
  );
}

const FIGURES = ["oddness", "total ms"] as const;
type Figure = (typeof FIGURES)[number];
const PARAMS = { oddness: "odd", "total ms": "slower" } as const satisfies Record<Figure, string>;

/** The calls by when they came, with a limit to drag: what lies below it is left out of the search. */
function CallsChart({
  calls,
  odd,
  slower,
  onLimit,
}: {
  calls: Call[];
  odd: number | null;
  slower: number | null;
  onLimit: (name: string, value: string | null) => void;
}) {
  const navigate = useNavigate();
  const [figure, setFigure] = useState<Figure>(slower !== null ? "total ms" : "oddness");
  const points = useMemo(
    () =>
      calls.flatMap((call): CallPoint[] => {
        const y = figure === "oddness" ? call.odd : call.total_us / 1_000;
        if (y == null) return [];
        const tone = call.status >= 400 ? "trouble" : call.odd_reason ? "live" : "held";
        return [
          {
            id: call.request_id,
            x: Date.parse(call.at),
            y,
            tone,
            name: `${figure} ${short(y)}${call.odd_reason ? `, ${call.odd_reason}` : ""}`,
          },
        ];
      }),
    [calls, figure],
  );
  if (points.length < 2) return null;
  return (
    <div className="mb-3">
      <Segments label="what is drawn" all={FIGURES} chosen={figure} onChoose={setFigure} />
      <ScatterChart
        title={figure === "oddness" ? "How odd" : "How long"}
        unit={figure === "oddness" ? "outlier score of each call" : "ms of each call"}
        points={points}
        time
        limit={{
          value: figure === "oddness" ? odd : slower,
          name: figure === "oddness" ? "at least so odd" : "at least so long, ms",
          onCommit: (value) => onLimit(PARAMS[figure], value === null ? null : String(value)),
        }}
        onPick={(point) => void navigate(`/calls/${(point as CallPoint).id}`)}
      />
    </div>
  );
}

type CallPoint = ScatterPoint & { id: string };
