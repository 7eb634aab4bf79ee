// Bulk runs in words.
import { bytes, count, percent } from "../words";
import type { Run } from "./queries";

export function duration(seconds: number): string {
  if (seconds < 90) return `${seconds < 10 ? seconds.toFixed(1) : seconds.toFixed(0)} s`;
  return seconds < 5_400 ? `${(seconds / 60).toFixed(0)} min` : `${(seconds / 3600).toFixed(1)} h`;
}

/** "12,000 of 18,000"; of a finished run just how many. */
export const rowsOf = (run: Run): string =>
  run.row_total != null && run.state !== "finished" ? `${count(run.rows)} of ${count(run.row_total)}` : count(run.rows);

/** The answer of a run's page in one sentence. */
export function runSentence(run: Run): string {
  const by = run.versions.join(", ");
  const rejected = run.rejects ? ` ${count(run.rejects)} were rejected (${percent(run.rejects / Math.max(1, run.rows))}).` : "";
  if (run.state === "finished") {
    const size = run.result?.size_bytes == null ? "" : `, ${bytes(run.result.size_bytes)}`;
    return `Finished. ${count(run.rows)} rows scored by ${by} in ${duration(run.busy_s)}${size}.${rejected}`;
  }
  if (run.state === "waiting") return `Waiting for its turn on ${run.node}.`;
  if (run.state === "publishing") return `${count(run.rows)} rows are scored; the output is being put in its place.${rejected}`;
  const left = run.seconds_left == null ? "" : `, ${duration(run.seconds_left)} left`;
  const rate = run.rows_per_second == null ? "" : ` at ${count(run.rows_per_second)} rows a second`;
  if (run.state === "running" || run.state === "stopping") return `Scoring: ${rowsOf(run)} rows by ${by}${rate}${left}.${rejected}`;
  return `${run.state === "failed" ? "Failed" : "Stopped"} after ${rowsOf(run)} rows. ${run.reason ?? ""}`;
}
