import type { Lane } from "../api/client";
import { TimeChart } from "../charts/TimeChart";
import { useNow } from "../useNow";
import { count } from "../words";
import { Bar } from "./Bar";
import { VersionLink } from "./VersionLink";

/** How one version is run on this node: its copies over time and the batches that really occurred. */
export function LaneDetails({ lane }: { lane: Lane }) {
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
                    <Bar part={batches / most} least={0.005} label={`batches of ${rows} rows, of the most frequent size`} />
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

const SPAN_MS = 600_000;

/** How many copies there were in the last ten minutes. */
function Copies({ lane }: { lane: Lane }) {
  const now = useNow();
  const points = lane.copies_past.map((one) => ({ at: now - 1_000 * one.seconds_ago, value: one.copies }));
  const last = points[points.length - 1];
  return (
    <TimeChart
      title="Copies"
      unit="workers, last 10 minutes"
      height={92}
      since={now - SPAN_MS}
      until={now}
      top={Math.max(2, lane.copies_most)}
      limit={{ value: lane.copies_most, name: `most ${lane.copies_most}` }}
      series={[
        { name: "copies", colour: "var(--amber-fill)", stepped: true, points: last ? [...points, { at: now, value: last.value }] : [] },
      ]}
    />
  );
}
