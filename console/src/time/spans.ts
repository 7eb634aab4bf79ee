// Spans of time that pages look at, and how they stand in an address: pure functions, tested by Node's own runner.

export const SPAN_HOURS = { hour: 1, day: 24, week: 168, "30 days": 720, "90 days": 2_160 } as const;
export type SpanName = keyof typeof SPAN_HOURS;

/** Milliseconds since 1970. */
export type TimeSpan = { since: number; until: number };

const HOUR_MS = 3_600_000;

/** The span that an address names, else the usual one of the page. */
export function spanOf(params: URLSearchParams, names: readonly SpanName[], usual: SpanName): SpanName {
  const name = params.get("span");
  return names.find((one) => one === name) ?? usual;
}

/** The part of the time that an address holds fast (from, to); null while the page is live. */
export function fixedOf(params: URLSearchParams): TimeSpan | null {
  const [since, until] = [Date.parse(params.get("from") ?? ""), Date.parse(params.get("to") ?? "")];
  return since < until ? { since, until } : null;
}

/** The same address with another fixed part of the time, or live. */
export function withFixed(params: URLSearchParams, fixed: TimeSpan | null): URLSearchParams {
  const next = new URLSearchParams(params);
  next.delete("from");
  next.delete("to");
  if (fixed) {
    next.set("from", new Date(fixed.since).toISOString());
    next.set("to", new Date(fixed.until).toISOString());
  }
  return next;
}

/** The span that ends at a moment. */
export const spanUntil = (name: SpanName, until: number): TimeSpan => ({ since: until - SPAN_HOURS[name] * HOUR_MS, until });

/** What of an address says which time is looked at, to be kept on the way to another view; empty, or with its question mark. */
export function timeSearch(params: URLSearchParams): string {
  const kept = new URLSearchParams([...params].filter(([name]) => ["span", "from", "to", "zone"].includes(name)));
  return kept.size ? `?${kept.toString()}` : "";
}
