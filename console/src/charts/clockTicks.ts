import type uPlot from "uplot";
import { timeZone } from "../time/zone";

/** Texts for the ticks of an axis of time: hours of a day, days of more. */
export function clockTicks(_: uPlot, splits: number[]): string[] {
  const span = splits.length > 1 ? splits[1]! - splits[0]! : 0;
  return splits.map((at) => {
    const time = new Date(at * 1_000);
    if (span >= 86_400) return time.toLocaleDateString("en", { day: "numeric", month: "short", timeZone: timeZone() });
    return time.toLocaleTimeString("en-GB", {
      hour: "2-digit",
      minute: "2-digit",
      timeZone: timeZone(),
      ...(span < 60 ? { second: "2-digit" } : {}),
    });
  });
}
