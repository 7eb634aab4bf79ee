// The order of rows and the way of the keys among them: pure functions, tested by Node's own runner.
import type { CsvCell } from "../csv.js";

const texts = new Intl.Collator("en", { numeric: true, sensitivity: "base" });

/** Ascending: numbers by size, texts by their words and the numbers in them; what is missing comes last. */
export function compareCells(a: CsvCell, b: CsvCell): number {
  const [aMissing, bMissing] = [isMissing(a), isMissing(b)];
  if (aMissing || bMissing) return Number(aMissing) - Number(bMissing);
  if (typeof a === "number" && typeof b === "number") return a - b;
  if (typeof a === "boolean" && typeof b === "boolean") return Number(a) - Number(b);
  return texts.compare(String(a), String(b));
}

const isMissing = (value: CsvCell): boolean => value === null || value === undefined || Number.isNaN(value);

const PAGE = 10;

/** The row that a key goes to from the present one; null for a key that goes nowhere. */
export function nextRow(key: string, now: number, count: number): number | null {
  const places: Record<string, number> = {
    ArrowDown: now + 1,
    ArrowUp: now - 1,
    PageDown: now + PAGE,
    PageUp: now - PAGE,
    Home: 0,
    End: count - 1,
  };
  const place = places[key];
  return place === undefined || !count ? null : Math.min(Math.max(place, 0), count - 1);
}
