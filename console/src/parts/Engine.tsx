import { type FormEvent, useState } from "react";
import { api, type EndpointPage as Page, good, type Lane, type LaneRules } from "../api/client";
import { useLanes, useSession } from "../api/queries";
import { count } from "../words";
import { Button, Card, Mono, Trouble } from "./basics";
import { VersionLink } from "./VersionLink";
import { useServiceChange } from "../api/useServiceChange";

/** How an endpoint's versions are run on this node: copies over time, the batches that really occurred, and the rules for both. */
export function Engine({ page }: { page: Page }) {
  const lanes = useLanes();
  const session = useSession();
  const [changing, setChanging] = useState(false);
  const mine = lanes.data?.lanes.filter((lane) => page.versions.includes(lane.version)) ?? [];
  const may = session.data?.role === "admin" || session.data?.role === "operator";
  return (
    <Card
      title="Engine"
      className="mt-4"
      aside={
        <span className="flex items-center gap-3 text-small text-faint">
          {may && (
            <button type="button" className="text-soft underline hover:text-ink" onClick={() => setChanging(!changing)}>
              {changing ? "leave it as it is" : "change how it runs"}
            </button>
          )}
          {`lamppost lanes ${page.version}`}
        </span>
      }
    >
      {changing && <Rules key={page.revision} page={page} onDone={() => setChanging(false)} />}
      {mine.length ? (
        mine.map((lane) => <OneLane key={lane.version} lane={lane} />)
      ) : (
        <p className="text-soft">It sleeps on this node; the next call opens it.</p>
      )}
    </Card>
  );
}

function OneLane({ lane }: { lane: Lane }) {
  const all = lane.batches.reduce((sum, batch) => sum + batch.batches, 0);
  const most = Math.max(1, ...lane.batches.map((batch) => batch.batches));
  return (
    <div className="grid grid-cols-[200px_minmax(0,1fr)_minmax(0,1fr)] gap-6 py-2">
      <dl className="grid grid-cols-[auto_1fr] content-start gap-x-4 gap-y-1">
        <dt className="text-faint">version</dt>
        <dd>
          <VersionLink name={lane.version} live />
        </dd>
        <dt className="text-faint">copies</dt>
        <dd>
          {lane.copies} <span className="text-faint">of {lane.copies_most}</span>
        </dd>
        <dt className="text-faint">waiting</dt>
        <dd>{count(lane.waiting)}</dd>
        <dt className="text-faint">max rows</dt>
        <dd>
          {count(lane.max_rows)} {lane.target_ms !== null && <span className="text-faint">for {lane.target_ms} ms</span>}
        </dd>
      </dl>
      <figure>
        <figcaption className="text-small text-faint">rows in a batch, {count(all)} batches since it was opened</figcaption>
        {lane.batches.length ? (
          <table className="mt-1 w-full">
            <tbody>
              {lane.batches.map(({ rows, batches }) => (
                <tr key={rows}>
                  <th scope="row" className="h-5 w-20 pr-3 text-right font-mono text-small font-normal whitespace-nowrap">
                    {rows > 2 ? `${rows / 2 + 1}–${rows}` : rows}
                  </th>
                  <td>
                    <div className="h-3 rounded-small bg-slate-fill" style={{ width: `${Math.max(0.5, (100 * batches) / most)}%` }} />
                  </td>
                  <td className="w-20 pl-3 text-right font-mono text-small">{count(batches)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        ) : (
          <p className="mt-1 text-soft">none yet</p>
        )}
      </figure>
      <Copies lane={lane} />
    </div>
  );
}

const SPAN_S = 600;

/** How many copies there were in the last ten minutes. */
function Copies({ lane }: { lane: Lane }) {
  const top = Math.max(2, lane.copies_most, ...lane.copies_past.map((one) => one.copies));
  const x = (ago: number): number => 300 - (300 * Math.min(SPAN_S, ago)) / SPAN_S;
  const y = (copies: number): number => 60 - (56 * copies) / top;
  const steps = lane.copies_past.map((one, at) => {
    const until = lane.copies_past[at + 1]?.seconds_ago ?? 0;
    return `${at ? "L" : "M"}${x(one.seconds_ago)} ${y(one.copies)}L${x(until)} ${y(one.copies)}`;
  });
  return (
    <figure>
      <figcaption className="text-small text-faint">copies, last 10 minutes</figcaption>
      <svg viewBox="0 0 372 76" className="mt-1 w-full" role="img" aria-label={`copies: ${lane.copies} now`}>
        <line x1="0" x2="300" y1="60" y2="60" stroke="var(--line)" />
        <line x1="0" x2="300" y1={y(lane.copies_most)} y2={y(lane.copies_most)} stroke="var(--slate-fill)" strokeDasharray="3 3" />
        <path d={steps.join("")} fill="none" stroke="var(--amber-fill)" strokeWidth="2" />
        <text x="304" y={y(lane.copies_most) + 4} className="fill-faint text-small">
          most {lane.copies_most}
        </text>
        <text x="0" y="74" className="fill-faint text-small">
          10 min ago
        </text>
        <text x="300" y="74" textAnchor="end" className="fill-faint text-small">
          now
        </text>
      </svg>
    </figure>
  );
}

const NUMBERS = [
  ["copies_most", "most copies", ""],
  ["max_rows", "most rows of a batch", "1,024"],
  ["target_ms", "p99 to stay under, ms", "no target"],
  ["queue_rows", "most rows that wait", "20,000"],
  ["queue_s", "longest expected wait, s", "no bound"],
  ["sleep_after_s", "sleeps after, s of quiet", "never"],
] as const satisfies [keyof LaneRules, string, string][];

/** Change the rules: in force at once on every node, and no call is lost. */
function Rules({ page, onDone }: { page: Page; onDone: () => void }) {
  const rules = page.setup.lane ?? {};
  const [typed, setTyped] = useState<Record<string, string>>(
    Object.fromEntries(NUMBERS.map(([name]) => [name, rules[name] == null ? "" : String(rules[name])])),
  );
  const [warm, setWarm] = useState(rules.keep_warm ?? false);
  const lane: LaneRules = { ...rules, keep_warm: warm };
  for (const [name] of NUMBERS) lane[name] = typed[name]?.trim() ? Number(typed[name]) : null;
  const wrong = NUMBERS.some(([name]) => typed[name]?.trim() && !Number.isFinite(Number(typed[name])));
  const words = NUMBERS.filter(([name]) => (lane[name] ?? null) !== (rules[name] ?? null)).map(
    ([name]) => `--lane ${name}=${lane[name] ?? ""}`,
  );
  if (warm !== (rules.keep_warm ?? false)) words.push(`--lane keep_warm=${warm}`);
  const save = useServiceChange(
    "endpoint",
    async () =>
      good(
        await api.PUT("/api/endpoints/{endpoint}/setup", {
          params: { path: { endpoint: page.name } },
          body: { setup: { ...page.setup, lane }, after: page.revision, break_callers: false },
        }),
      ),
    onDone,
  );

  function submit(event: FormEvent): void {
    event.preventDefault();
    save.mutate();
  }

  return (
    <form onSubmit={submit} aria-label="how it runs" className="mb-3 border-b border-line pb-4">
      <div className="grid grid-cols-3 gap-x-4 gap-y-3">
        {NUMBERS.map(([name, meaning, usual]) => (
          <label key={name} className="text-small text-soft">
            {meaning}
            <input
              className="control mt-1"
              inputMode="decimal"
              placeholder={usual || "one for each core"}
              value={typed[name]}
              onChange={(event) => setTyped((before) => ({ ...before, [name]: event.target.value }))}
            />
          </label>
        ))}
        <label className="flex items-center gap-2 text-small text-soft">
          <input type="checkbox" checked={warm} onChange={(event) => setWarm(event.target.checked)} /> keep warm: opened at the start, never
          let go
        </label>
      </div>
      {save.error && <Trouble error={save.error} />}
      <div className="mt-3 flex items-center gap-3">
        <Button kind="main" type="submit" disabled={wrong || !words.length || save.isPending}>
          {save.isPending ? "Changing …" : "Change"}
        </Button>
        <span className="text-small text-faint">
          In force at once on every node; no call is lost. It is revision {page.revision + 1}, and revision {page.revision} can be had back.
        </span>
      </div>
      {words.length > 0 && (
        <p className="mt-2 text-small text-faint">
          The same by command: <Mono>{`lamppost setup ${page.name} ${words.join(" ")}`}</Mono>
        </p>
      )}
    </form>
  );
}
