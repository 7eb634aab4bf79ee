// Figures and times as people read them.
import { timeZone } from "./time/zone";

const whole = new Intl.NumberFormat("en", { maximumFractionDigits: 0 });

export const count = (value: number): string => whole.format(value);

/** Milliseconds with about three figures, without the unit; a dash for none. */
export function ms(value: number | null | undefined): string {
  if (value == null) return "–";
  return value >= 100 ? value.toFixed(0) : value >= 10 ? value.toFixed(1) : value.toFixed(2);
}

/** "3 min ago"; after a day the date. */
export function ago(iso: string, now = Date.now()): string {
  const seconds = Math.max(0, (now - Date.parse(iso)) / 1000);
  if (seconds < 10) return "just now";
  if (seconds < 60) return `${Math.floor(seconds)} s ago`;
  if (seconds < 3600) return `${Math.floor(seconds / 60)} min ago`;
  if (seconds < 86_400) return `${Math.floor(seconds / 3600)} h ago`;
  return new Date(iso).toLocaleDateString("en", { day: "numeric", month: "short", year: "numeric", timeZone: timeZone() });
}

/** The time of day to the millisecond. */
export function clock(iso: string): string {
  const at = new Date(iso);
  return `${at.toLocaleTimeString("en-GB", { timeZone: timeZone() })}.${String(at.getMilliseconds()).padStart(3, "0")}`;
}

/** Bytes with a unit: "2.8 MB". */
export function bytes(value: number): string {
  for (const [unit, size] of [
    ["GB", 1e9],
    ["MB", 1e6],
    ["kB", 1e3],
  ] as const)
    if (value >= size) return `${(value / size).toFixed(1)} ${unit}`;
  return `${value} B`;
}

const SHOWN_ELEMENTS = 12;

/** A value of an answer: numbers with six significant figures, of lists the first dozen elements. */
export function show(value: unknown): string {
  if (typeof value === "number") return Number.isInteger(value) ? String(value) : String(Number(value.toPrecision(6)));
  if (typeof value === "boolean") return value ? "yes" : "no";
  if (Array.isArray(value)) {
    const few = value.slice(0, SHOWN_ELEMENTS).map(show);
    return `[${few.join(", ")}${value.length > SHOWN_ELEMENTS ? `, … ${count(value.length)} in all` : ""}]`;
  }
  return typeof value === "string" ? value : JSON.stringify(value);
}

/** A number with at most three significant figures, or all of its whole part; far below one its magnitude. */
export function short(value: number): string {
  if (value !== 0 && Math.abs(value) < 0.001) return value.toExponential(0);
  return Math.abs(value) >= 100 ? value.toFixed(0) : String(Number(value.toPrecision(3)));
}

export const plural = (amount: number, one: string, many = `${one}s`): string => `${count(amount)} ${amount === 1 ? one : many}`;

/** A text of the service as a sentence of its own: "Workers are confined." */
export const sentence = (text: string): string => `${text.charAt(0).toUpperCase()}${text.slice(1)}.`;

/** The time of day of what is at most a day old, and the day with the time of anything else. now : the present, Unix ms. */
export const clockOrDay = (iso: string, now: number): string => (now - Date.parse(iso) > 86_400_000 ? when(iso) : clock(iso));

/** Day and time to the minute: "23 Nov 14:00". */
export function when(iso: string | number): string {
  const at = new Date(iso);
  const [day, time] = [
    at.toLocaleDateString("en", { day: "numeric", month: "short", timeZone: timeZone() }),
    at.toLocaleTimeString("en-GB", { hour: "2-digit", minute: "2-digit", timeZone: timeZone() }),
  ];
  return `${day} ${time}`;
}

/** A part as percent: "8.3 %"; small ones with two figures. */
export const percent = (part: number | null | undefined): string =>
  part == null
    ? "–"
    : part !== 0 && part < 0.1
      ? `${Number((100 * part).toPrecision(2))} %`
      : `${(100 * part).toFixed(part < 1 && part > 0.995 ? 1 : 0)} %`;

/** The chance of as much in an unchanged stream. */
export const chance = (p: number): string => (p < 1e-12 ? "< 1e-12" : p < 0.001 ? p.toExponential(0) : String(Number(p.toPrecision(2))));
