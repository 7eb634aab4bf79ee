// From the schema to a form and from the form to a row. What is typed is kept as text; it becomes a value only when sent.
import type { Field } from "./api/client";

/** What stands in a field's control; null says that the value is missing. */
export type Entry = string | null;
export type Entries = Record<string, Entry>;

export function exampleEntries(fields: Field[], example: Record<string, unknown>): Entries {
  return Object.fromEntries(fields.map((field) => [field.name, entryOf(example[field.name])]));
}

function entryOf(value: unknown): Entry {
  return value === null || value === undefined ? null : String(value);
}

/** The JSON text of one value. Numbers go out as they were typed, so that no digit is lost; what is no number goes out as
 *  text, and the service says what is wrong with it. */
export function jsonOf(field: Field, entry: Entry): string {
  if (entry === null) return "null";
  if (field.kind === "number" || field.kind === "integer") {
    const text = entry.trim();
    return /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text) ? text : JSON.stringify(entry);
  }
  if (field.kind === "yes/no") return entry === "true" ? "true" : entry === "false" ? "false" : JSON.stringify(entry);
  return JSON.stringify(entry);
}

/** The row as JSON on one line. */
export function bodyOf(fields: Field[], entries: Entries): string {
  return `{${fields.map((field) => `${JSON.stringify(field.name)}: ${jsonOf(field, entries[field.name] ?? null)}`).join(", ")}}`;
}

