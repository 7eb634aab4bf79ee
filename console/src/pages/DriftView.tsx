import { ChevronRight } from "lucide-react";
import { Fragment, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { DriftPage, EndpointPage, Figure } from "../api/client";
import { useDrift } from "../api/queries";
import { Card, Mono, Trouble, Waiting } from "../parts/basics";
import { FeatureBins } from "../parts/FeatureBins";
import { FILLS, Verdict } from "../parts/Verdict";
import { chance, count, percent, short, when } from "../words";

/** Does the world still look like training, and if not, why? */
export function DriftView({ page }: { page: EndpointPage }) {
  const [params, setParams] = useSearchParams();
  const at = params.get("at");
  const against = params.get("against");
  const version = params.get("version");
  const drift = useDrift(page.name, version, at, against);
  const found = drift.data;
  if (drift.error && !found) return <Trouble error={drift.error} again={() => void drift.refetch()} />;
  if (!found) return <Waiting height={560} label="loading the verdict" />;
  function go(change: Record<string, string | null>): void {
    const next = new URLSearchParams(params);
    for (const [key, value] of Object.entries(change)) {
      if (value === null) next.delete(key);
      else next.set(key, value);
    }
    setParams(next);
  }
  const window = found.window;
  return (
    <>
      <p className="mt-4 flex items-baseline gap-3 text-lead">
        <Verdict state={found.state} word={false} /> <span>{found.summary}</span>
      </p>
      {window && (
        <p className="text-soft">
          {window.over ? "" : "So far, in "}
          {when(window.at)} to {when(window.until)}, rows of <Mono>{found.version}</Mono> against{" "}
          {found.against === "training" ? "training" : `the window of ${when(found.against)}`}
          {found.pooled > 1 && `, the last ${found.pooled} windows together`}.{" "}
          {window.odd > 0 && (
            <Link to={`/endpoints/${page.name}/calls?odd=3`} className="underline">
              {count(window.odd)} odd rows
            </Link>
          )}
        </p>
      )}
      {found.explanation && <Why found={found} endpoint={page.name} />}
      {found.windows.length > 1 && <Windows found={found} at={at} go={go} />}
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
      ].map((said) => (
        <p key={said} className="mt-1 text-soft">
          {said}
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

function Windows({ found, at, go }: { found: DriftPage; at: string | null; go: (change: Record<string, string | null>) => void }) {
  const shown = found.windows.slice(-SHOWN);
  const chosen = found.window?.at;
  return (
    <Card
      title="Windows"
      className="mt-4"
      aside={
        <span className="flex items-center gap-4 text-small text-soft">
          {(["steady", "shifting", "drifted"] as const).map((state) => (
            <Verdict key={state} state={state} />
          ))}
          {at && (
            <button type="button" className="underline hover:text-ink" onClick={() => go({ at: null, against: null })}>
              back to the newest
            </button>
          )}
        </span>
      }
    >
      <div className="flex h-10 gap-px" role="group" aria-label="windows, oldest first">
        {shown.map((one) => {
          const height = one.state === "drifted" ? "100%" : one.state === "shifting" ? "70%" : one.state === "steady" ? "40%" : "20%";
          return (
            <button
              key={one.at}
              type="button"
              aria-pressed={one.at === chosen}
              aria-label={`${when(one.at)}: ${one.state}`}
              title={`${when(one.at)}: ${one.summary}`}
              onClick={() => go({ at: one.at })}
              className={`flex min-w-[3px] flex-1 items-end ${one.at === chosen ? "bg-sunk outline-2 outline-ink" : "hover:bg-sunk"}`}
            >
              <span className="w-full" style={{ height, background: FILLS[one.state] }} />
            </button>
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
              onClick={() => go({ against: found.against === "training" ? before(found) : null })}
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

function Figures({ found, endpoint, at }: { found: DriftPage; endpoint: string; at: string | null }) {
  const first = found.figures.find((one) => one.state !== "steady")?.name ?? null;
  const [open, setOpen] = useState<string | null | undefined>(undefined);
  const shown = open === undefined ? first : open;
  return (
    <Card
      title="Inputs and answers"
      className="mt-4"
      aside={<span className="text-small text-faint">what matters most first; a row opens</span>}
    >
      <table className="figures w-full table-fixed">
        <thead>
          <tr>
            <th className="w-6">
              <span className="sr-only">open</span>
            </th>
            <th className="w-52">figure</th>
            <th className="w-28">verdict</th>
            <th>how</th>
            <th className="num w-20">rows</th>
            <th className="num w-20">p</th>
          </tr>
        </thead>
        <tbody>
          {found.figures.map((one) => (
            <Fragment key={one.name}>
              <tr className="cursor-pointer hover:bg-sunk" onClick={() => setOpen(shown === one.name ? null : one.name)}>
                <td>
                  <button type="button" aria-expanded={shown === one.name} aria-label={one.name} className="flex items-center text-faint">
                    <ChevronRight size={14} className={shown === one.name ? "rotate-90" : ""} aria-hidden />
                  </button>
                </td>
                <td className="truncate font-mono">{label(one)}</td>
                <td>
                  <Verdict state={one.state} />
                </td>
                <td className="truncate text-soft">{one.summary}</td>
                <td className="num text-soft">{count(one.rows)}</td>
                <td className="num text-soft">{one.findings[0] ? chance(one.findings[0].p) : "–"}</td>
              </tr>
              {shown === one.name && (
                <tr className="border-t-0!">
                  <td />
                  <td colSpan={5}>
                    <FeatureBins endpoint={endpoint} figure={one.name} version={found.version} at={at} summary={one.summary} />
                  </td>
                </tr>
              )}
            </Fragment>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

const label = (one: Figure): string => (one.name.startsWith("answers.") ? `→ ${one.name.slice(8)}` : one.name);
