import { Fragment } from "react";
import { Link, useSearchParams } from "react-router";
import type { DriftPage, EndpointPage, Figure, WindowOfDrift } from "../api/client";
import { useDrift } from "../api/queries";
import { Card, Mono } from "../parts/basics";
import { FeatureBins } from "../parts/FeatureBins";
import { QueryState } from "../parts/QueryState";
import { Tip } from "../parts/Tip";
import { FILLS, Verdict } from "../parts/Verdict";
import { type Column, DataTable } from "../table/DataTable";
import { TimeControl } from "../time/TimeControl";
import { type PageSpan, usePageSpan } from "../time/usePageSpan";
import { chance, count, percent, short, when } from "../words";

/** Does the world still look like training, and if not, why? */
export function DriftView({ page }: { page: EndpointPage }) {
  const [params] = useSearchParams();
  const span = usePageSpan([], "day");
  // a fixed part of the time shows the window that it ends in
  const at = span.fixed && new Date(span.fixed.until - 1).toISOString();
  const drift = useDrift(page.name, params.get("version"), at, params.get("against"));
  return (
    <>
      <div className="mt-4 flex flex-wrap items-start justify-between gap-x-6 gap-y-2">
        <p className="flex min-w-0 flex-1 basis-80 items-baseline gap-3 text-lead">
          {drift.data && (
            <>
              <Verdict state={drift.data.state} word={false} /> <span>{drift.data.summary}</span>
            </>
          )}
        </p>
        <TimeControl span={span} />
      </div>
      <QueryState query={drift} loading="the verdict" height={560}>
        {(found) => <Found page={page} found={found} at={at} span={span} />}
      </QueryState>
    </>
  );
}

function Found({ page, found, at, span }: { page: EndpointPage; found: DriftPage; at: string | null; span: PageSpan }) {
  const [params, setParams] = useSearchParams();
  const window = found.window;
  const holdAgainst = (against: string | null): void => {
    const next = new URLSearchParams(params);
    if (against === null) next.delete("against");
    else next.set("against", against);
    setParams(next);
  };
  const choose = (one: WindowOfDrift): void => span.setFixed({ since: Date.parse(one.at), until: Date.parse(one.until) });
  return (
    <>
      {window && (
        <p className="text-soft">
          {window.over ? "" : "So far, in "}
          {when(window.at)} to {when(window.until)}, rows of <Mono>{found.version}</Mono> against{" "}
          {found.against === "training" ? "training" : `the window of ${when(found.against)}`}
          {found.pooled > 1 && `, the last ${found.pooled} windows together`}.{" "}
          {window.bulk_rows > 0 && (
            <>
              {count(window.bulk_rows)} of its {count(window.rows)} rows came in{" "}
              <Link to="/bulk" className="underline">
                bulk runs
              </Link>
              .{" "}
            </>
          )}
          {window.odd > 0 && (
            <Link to={`/endpoints/${page.name}/calls?odd=3`} className="underline">
              {count(window.odd)} odd rows
            </Link>
          )}
        </p>
      )}
      {found.explanation && <Why found={found} endpoint={page.name} />}
      {found.windows.length > 1 && <Windows found={found} choose={choose} holdAgainst={holdAgainst} />}
      {found.figures.length > 0 && <Figures found={found} endpoint={page.name} at={at} />}
      {found.pairs.length > 0 && (
        <Card title="Pairs of numbers" className="mt-4">
          <table className="figures w-full">
            <tbody>
              {found.pairs.map((pair) => (
                <tr key={`${pair.first} ${pair.second}`}>
                  <td className="font-mono">
                    {pair.first} × {pair.second}
                  </td>
                  <td>
                    <Verdict state={pair.state} />
                  </td>
                  <td className="w-full text-soft">
                    correlate by {pair.after.toFixed(2)}, in training by {pair.before.toFixed(2)}
                  </td>
                  <td className="num">p {chance(pair.p)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </Card>
      )}
      <p className="mt-4 text-small text-faint">
        <Mono>{`lamppost drift ${page.name}${at ? ` --at ${at}` : ""}`}</Mono> · windows of {page.setup.monitoring?.window_minutes ?? 60}{" "}
        minutes · <Mono>{`lamppost setup ${page.name} --monitoring window_minutes=60`}</Mono>
      </p>
    </>
  );
}

function Why({ found, endpoint }: { found: DriftPage; endpoint: string }) {
  const why = found.explanation!;
  return (
    <section className="mt-4 rounded-card border border-brick bg-brick-wash p-4" aria-label="Probably why">
      <h2 className="font-semibold">Probably why</h2>
      <p className="mt-1 text-lead">{why.summary}.</p>
      <p className="mt-1 text-soft">
        Since {when(why.since)}, from {count(why.rows)} recorded rows.
      </p>
      <div className="mt-2 grid grid-cols-[auto_minmax(0,1fr)] gap-x-6 gap-y-1">
        {why.fields.flatMap((field) =>
          field.slices.slice(0, 3).map((slice) => (
            <Fragment key={`${field.name} ${slice.by} ${slice.value}`}>
              <span>
                <Mono>{field.name}</Mono> where <Mono>{slice.by}</Mono> is <Mono className="font-semibold">{slice.value}</Mono>
              </span>
              <span className="flex items-center gap-3">
                <span className="h-3 w-40 rounded-small bg-sunk">
                  <span className="block h-3 rounded-small bg-brick" style={{ width: `${100 * slice.part}%` }} />
                </span>
                <span className="text-soft">
                  {percent(slice.part)} of the change · {short(slice.before)} in training, {short(slice.after)} now · {count(slice.rows)}{" "}
                  rows
                </span>
              </span>
            </Fragment>
          )),
        )}
        {why.fields
          .filter((field) => field.new.length > 0)
          .map((field) => (
            <Fragment key={`${field.name} new`}>
              <span>
                <Mono>{field.name}</Mono>
              </span>
              <span className="text-soft">new: {field.new.join(", ")}</span>
            </Fragment>
          ))}
        {why.fields
          .filter((field) => field.follows !== null)
          .map((field) => (
            <Fragment key={`${field.name} follows`}>
              <span>
                <Mono>{field.name}</Mono>
              </span>
              <span className="text-soft">
                follows <Mono>{field.follows}</Mono>, whose values come in other shares
              </span>
            </Fragment>
          ))}
        {why.fields
          .filter((field) => field.explains !== null)
          .map((field) => (
            <Fragment key={`${field.name} explains`}>
              <span>
                <Mono>{field.name}</Mono> explains
              </span>
              <span className="text-soft">
                {percent(field.explains)} of what changed in <Mono>{why.answers?.answer ?? "the answers"}</Mono>
                {why.answers &&
                  ` (${why.answers.moved.map((one) => `${one.value ?? ""} ${one.by > 0 ? "+" : "−"}${one.value ? percent(Math.abs(one.by)) : short(Math.abs(one.by))}`.trim()).join(", ")})`}
              </span>
            </Fragment>
          ))}
      </div>
      {[
        ...why.changes.map((one) => `${when(one.at)}: ${one.summary}`),
        ...why.callers.map((one) => `${one.token} sends ${one.summary}`),
      ].map((line) => (
        <p key={line} className="mt-1 text-soft">
          {line}
        </p>
      ))}
      <p className="mt-2">
        <Link className="underline" to={`/endpoints/${endpoint}/calls?odd=3`}>
          Look at the odd calls
        </Link>
      </p>
    </section>
  );
}

const SHOWN = 240;
const HEIGHTS = { drifted: "100%", shifting: "70%", steady: "40%", "too few": "20%" } as const satisfies Record<
  WindowOfDrift["state"],
  string
>;

function Windows({
  found,
  choose,
  holdAgainst,
}: {
  found: DriftPage;
  choose: (window: WindowOfDrift) => void;
  holdAgainst: (against: string | null) => void;
}) {
  const shown = found.windows.slice(-SHOWN);
  const chosen = found.window?.at;
  return (
    <Card
      title="Windows"
      term="window"
      className="mt-4"
      aside={
        <span className="flex items-center gap-4 text-small text-soft">
          {(["steady", "shifting", "drifted"] as const).map((state) => (
            <Verdict key={state} state={state} />
          ))}
        </span>
      }
    >
      <div className="flex h-10 gap-px" role="group" aria-label="windows, oldest first">
        {shown.map((one) => {
          const height = HEIGHTS[one.state];
          return (
            <Tip key={one.at} text={`${when(one.at)}: ${one.summary}`}>
              <button
                type="button"
                aria-pressed={one.at === chosen}
                aria-label={`${when(one.at)}: ${one.state}`}
                onClick={() => choose(one)}
                className={`flex min-w-[3px] flex-1 items-end ${one.at === chosen ? "bg-sunk outline-2 outline-ink" : "hover:bg-sunk"}`}
              >
                <span className="w-full" style={{ height, background: FILLS[one.state] }} />
              </button>
            </Tip>
          );
        })}
      </div>
      <div className="mt-1 flex justify-between text-small text-faint">
        <span>{when(shown[0]!.at)}</span>
        <span>
          {found.window && found.window.at !== shown[0]!.at && (
            <button
              type="button"
              className="underline hover:text-ink"
              onClick={() => holdAgainst(found.against === "training" ? before(found) : null)}
            >
              {found.against === "training" ? "hold it against the window before" : "hold it against training"}
            </button>
          )}
        </span>
        <span>{when(shown[shown.length - 1]!.until)}</span>
      </div>
    </Card>
  );
}

/** The start of the window before the one that is looked at. */
function before(found: DriftPage): string | null {
  const place = found.windows.findIndex((one) => one.at === found.window?.at);
  return found.windows[place - 1]?.at ?? null;
}

const COLUMNS: Column<Figure>[] = [
  { id: "figure", term: "watched feature", width: 220, value: label, className: "font-mono" },
  { id: "verdict", width: 112, value: (one) => one.state, cell: (one) => <Verdict state={one.state} /> },
  { id: "how", grow: true, value: (one) => one.summary, className: "text-soft" },
  { id: "rows", numeric: true, width: 80, value: (one) => one.rows, cell: (one) => count(one.rows), className: "text-soft" },
  {
    id: "p",
    numeric: true,
    width: 80,
    value: (one) => one.findings[0]?.p,
    cell: (one) => (one.findings[0] ? chance(one.findings[0].p) : "–"),
    className: "text-soft",
  },
];

const Figures = ({ found, endpoint, at }: { found: DriftPage; endpoint: string; at: string | null }) => (
  <Card
    title="Inputs and answers"
    className="mt-4"
    aside={<span className="text-small text-faint">what matters most first; a row opens to training and window over each other</span>}
  >
    <DataTable
      label="inputs and answers"
      columns={COLUMNS}
      rows={found.figures}
      rowKey={(one) => one.name}
      details={(one) => <FeatureBins endpoint={endpoint} figure={one.name} version={found.version} at={at} summary={one.summary} />}
      opened={found.figures.find((one) => one.state !== "steady")?.name ?? null}
      height={900}
    />
  </Card>
);

function label(one: Figure): string {
  return one.name.startsWith("answers.") ? `→ ${one.name.slice(8)}` : one.name;
}
