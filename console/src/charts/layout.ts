// Where things stand on a chart: pure functions of numbers, tested by Node's own runner.

export type Point = { at: number; value: number | null; low?: number | null; high?: number | null };

/** The next round number at or above a value; 1 for nothing. */
export function niceTop(value: number): number {
  if (!(value > 0)) return 1;
  const size = 10 ** Math.floor(Math.log10(value));
  return [1, 2, 4, 5, 10].map((part) => part * size).find((candidate) => candidate >= value * 0.999) ?? 10 * size;
}

/**
 * Places labels of one height so that none overlaps another: each stays as near to its wish as its neighbours allow.
 * Labels that do not fit between low and high at all overlap at the lower end.
 */
export function spreadLabels(wishes: number[], height: number, low: number, high: number): number[] {
  const order = wishes.map((_, index) => index).sort((a, b) => wishes[a]! - wishes[b]!);
  const groups: { members: number[]; middle: number }[] = [];
  for (const index of order) {
    let group = { members: [index], middle: wishes[index]! };
    // a group that reaches into the one above is joined with it, around the mean of all their wishes
    for (;;) {
      const half = ((group.members.length - 1) * height) / 2;
      group.middle = Math.min(Math.max(group.middle, low + half), Math.max(low + half, high - half));
      const above = groups[groups.length - 1];
      if (!above || above.middle + ((above.members.length - 1) * height) / 2 + height <= group.middle - half + 1e-9) break;
      groups.pop();
      const members = [...above.members, ...group.members];
      group = { members, middle: members.reduce((sum, member) => sum + wishes[member]!, 0) / members.length };
    }
    groups.push(group);
  }
  const places = new Array<number>(wishes.length);
  for (const { members, middle } of groups)
    members.forEach((member, place) => (places[member] = middle + (place - (members.length - 1) / 2) * height));
  return places;
}

export type PlacedMark<T> = { mark: T; x: number; row: number; width: number };

/** Rows for the names of marks along an axis: each takes the first row with room; without room in any row it is not named (row -1). */
export function placeMarks<T>(marks: { mark: T; x: number; width: number }[], rows: number, end: number): PlacedMark<T>[] {
  const free = new Array<number>(rows).fill(-Infinity);
  return [...marks]
    .sort((a, b) => a.x - b.x)
    .map(({ mark, x, width }) => {
      const start = Math.min(x, Math.max(0, end - width));
      const row = free.findIndex((until) => until <= start);
      if (row >= 0) free[row] = start + width + 8;
      return { mark, x: row >= 0 ? start : x, row, width };
    });
}

/** Times and values of several series on one axis of times. A gap between neighbours of a series is a moment without value. */
export function alignSeries(series: Point[][], gap: number): { times: number[]; values: (number | null)[][] } {
  const found = new Map<number, (number | null)[]>();
  const row = (at: number): (number | null)[] => {
    const known = found.get(at);
    if (known) return known;
    const made = new Array<number | null>(series.length).fill(null);
    found.set(at, made);
    return made;
  };
  series.forEach((points, index) => {
    let before: Point | undefined;
    for (const point of points) {
      if (before && point.at - before.at > gap) row(before.at + gap / 2);
      row(point.at)[index] = point.value;
      before = point;
    }
  });
  const times = [...found.keys()].sort((a, b) => a - b);
  return { times, values: series.map((_, index) => times.map((at) => found.get(at)![index]!)) };
}

/** The place that a key goes to among so many readings, from the present one (-1 for none); undefined for a key that goes nowhere. */
export function nextReading(key: string, now: number, count: number): number | undefined {
  const places: Record<string, number> = { ArrowLeft: now < 0 ? count - 1 : now - 1, ArrowRight: now + 1, Home: 0, End: count - 1 };
  if (key === "Escape") return -1;
  const place = places[key];
  return place === undefined || !count ? undefined : Math.min(Math.max(place, 0), count - 1);
}

/** The index of the value nearest to a moment, within a distance; -1 for none. */
export function nearestIndex(times: number[], at: number, within = Infinity): number {
  let low = 0;
  let high = times.length;
  while (low < high) {
    const middle = (low + high) >> 1;
    if (times[middle]! < at) low = middle + 1;
    else high = middle;
  }
  let best = -1;
  for (const index of [low - 1, low]) {
    const time = times[index];
    if (time !== undefined && Math.abs(time - at) <= within && (best < 0 || Math.abs(time - at) < Math.abs(times[best]! - at)))
      best = index;
  }
  return best;
}

/**
 * The span that has the data: from the first moment with a value to the end, with an eighth more before it, and `least` long; the whole
 * where half of it is full.
 */
export function spanWithData(times: number[], since: number, until: number, least = 0): { since: number; until: number } {
  const first = times.find((at) => at >= since);
  if (first === undefined || first - since < (until - since) / 2) return { since, until };
  return { since: Math.max(since, Math.min(first - (until - first) / 8, until - least)), until };
}

/** Marks whose name differs from the one before: what is said twice in a row is said once. */
export function distinctMarks<Mark extends { name: string }>(marks: Mark[]): Mark[] {
  return marks.filter((mark, at) => mark.name !== marks[at - 1]?.name);
}

/** Texts of evenly spaced ticks, with as many decimals as tell neighbours apart. */
export function tickTexts(ticks: number[]): string[] {
  const written = (decimals: number): string[] => ticks.map((tick) => tick.toFixed(decimals));
  const exact = (decimals: number): boolean =>
    ticks.every((tick, at) => Math.abs(Number(written(decimals)[at]) - tick) < 1e-3 * Math.abs((ticks[1] ?? 1) - (ticks[0] ?? 0)));
  for (let decimals = 0; decimals <= 6; decimals++) if (exact(decimals)) return written(decimals);
  return ticks.map((tick) => tick.toExponential(1));
}

/** The index of the point nearest to a place, within so many pixels; -1 for none. */
export function nearestPoint(points: { x: number; y: number }[], x: number, y: number, within = 24): number {
  let best = -1;
  let least = within * within;
  points.forEach((point, index) => {
    const distance = (point.x - x) ** 2 + (point.y - y) ** 2;
    if (distance < least) [best, least] = [index, distance];
  });
  return best;
}

/** The edges of all bins, one more than there are bins: those between them, and the ends of what training had.
 *  @param edges upper ends of all bins but the last
 *  @param range where training begins and ends */
export function binEnds(edges: number[], range: number[] | null): number[] {
  const [low = 0, high = 1] = range ?? [];
  return [Math.min(low, edges[0] ?? low), ...edges, Math.max(high, edges[edges.length - 1] ?? high)];
}
