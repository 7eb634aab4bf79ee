// The schema's rules while somebody types. The service has the last word; what is said here is what it would say.
import type { Fault, Field } from "./api/client";
import type { Entries, Entry } from "./form";

const NUMBER = /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/;
const WHOLE = /^-?(0|[1-9]\d*)$/;
const INSTANT = /^\d{4}-\d\d-\d\d[Tt ]\d\d:\d\d(:\d\d(\.\d+)?)?/;
const OFFSET = /([Zz]|[+-]\d\d:?\d\d)$/;

/** What is wrong with the entries that were touched, by field. */
export function checkAll(fields: Field[], entries: Entries, touched: ReadonlySet<string>): Map<string, Fault> {
  const faults = new Map<string, Fault>();
  for (const field of fields) {
    if (!touched.has(field.name)) continue;
    const hint = check(field, entries[field.name] ?? null);
    if (hint !== null) faults.set(field.name, { field: field.name, expected: field.expected, hint: hint || undefined });
  }
  return faults;
}

/** Null where the entry is taken, else a hint, which may be empty. */
function check(field: Field, entry: Entry): string | null {
  if (entry === null) return field.missing ? null : "this field may not be missing";
  switch (field.kind) {
    case "number":
    case "integer": {
      const text = entry.trim();
      if (!(field.kind === "integer" ? WHOLE : NUMBER).test(text)) return "";
      return within(field, Number(text)) ? null : "";
    }
    case "choice":
      return field.unseen === "accept" || field.choices.includes(entry) ? null : "";
    case "time":
      if (!INSTANT.test(entry) || Number.isNaN(Date.parse(entry.replace(" ", "T")))) return "";
      return OFFSET.test(entry) ? null : "say the offset from UTC too: Z, or +01:00";
    case "tensor":
      return tensor(field, entry);
    case "text":
      return entry.length > 10_000 ? "10000 characters at most" : null;
    default:
      return null;
  }
}

const within = (field: Field, value: number): boolean =>
  (field.low == null || value >= field.low) && (field.high == null || value <= field.high);

function tensor(field: Field, entry: string): string | null {
  let value: unknown;
  try {
    value = JSON.parse(entry);
  } catch {
    return "these are no lists in JSON yet";
  }
  if (typeof value === "object" && value !== null && "base64" in value) return null;
  return fits(field, value, 0) ? null : "";
}

function fits(field: Field, value: unknown, axis: number): boolean {
  if (axis === field.shape.length)
    return typeof value === "number" && within(field, value) && (field.elements !== "integer" || Number.isInteger(value));
  const length = field.shape[axis];
  return (
    Array.isArray(value) && value.length > 0 && (!length || value.length === length) && value.every((one) => fits(field, one, axis + 1))
  );
}
