// From the schema to a form and from the form to a body. What is typed is kept as text; it becomes a value only when sent.
import type { Field } from "./api/client";

/** What stands in a field's control; null says that the value is missing. Of a picture it is the base64 of its file. */
export type Entry = string | null;
export type Entries = Record<string, Entry>;

/** The example row and the options' defaults, as a form begins. */
export function exampleEntries(fields: Field[], options: Field[], example: Record<string, unknown>): Entries {
  const chosen = (example.options ?? {}) as Record<string, unknown>;
  return Object.fromEntries([
    ...fields.map((field) => [field.name, entryOf(example[field.name])]),
    ...options.map((field) => [field.name, entryOf(chosen[field.name] ?? field.default ?? field.example)]),
  ]);
}

/** A value as it stands in a field's control. */
export function entryOf(value: unknown): Entry {
  if (value === null || value === undefined) return null;
  return typeof value === "object" ? JSON.stringify(value) : String(value);
}

/** The entries of a body that is one row, by the schema's fields; null for anything else. */
export function entriesOf(fields: Field[], options: Field[], text: string): Entries | null {
  let body: unknown;
  try {
    body = JSON.parse(text);
  } catch {
    return null;
  }
  if (typeof body !== "object" || body === null || Array.isArray(body)) return null;
  const row = body as Record<string, unknown>;
  const known = new Set([...fields.map((field) => field.name), "options"]);
  if (Object.keys(row).some((name) => !known.has(name))) return null;
  return exampleEntries(fields, options, row);
}

/** The JSON text of one value. Numbers go out as they were typed, so that no digit is lost; what is no number goes out as
 *  text, and the service says what is wrong with it. */
export function jsonOf(field: Field, entry: Entry): string {
  if (entry === null) return "null";
  if (field.kind === "number" || field.kind === "integer") {
    const text = entry.trim();
    return /^-?(0|[1-9]\d*)(\.\d+)?([eE][+-]?\d+)?$/.test(text) ? text : JSON.stringify(entry);
  }
  if (field.kind === "tensor") return isJson(entry) ? entry.trim() : JSON.stringify(entry);
  if (field.kind === "yes/no") return entry === "true" ? "true" : entry === "false" ? "false" : JSON.stringify(entry);
  return JSON.stringify(entry);
}

function isJson(text: string): boolean {
  try {
    JSON.parse(text);
    return true;
  } catch {
    return false;
  }
}

/** The body as JSON on one line: the row, and the options that are not as they are by default.
 *  @param value how a field's value is written, where that is not by `jsonOf`; null leaves the field out */
export function bodyOf(
  fields: Field[],
  options: Field[],
  entries: Entries,
  value: (field: Field, entry: Entry) => string | null = jsonOf,
): string {
  const written = (of: Field[]): string[] =>
    of.flatMap((field) => {
      const json = value(field, entries[field.name] ?? null);
      return json === null ? [] : [`${JSON.stringify(field.name)}: ${json}`];
    });
  const chosen = written(options.filter((field) => jsonOf(field, entries[field.name] ?? null) !== JSON.stringify(field.default ?? null)));
  return `{${[...written(fields), ...(chosen.length ? [`"options": {${chosen.join(", ")}}`] : [])].join(", ")}}`;
}
