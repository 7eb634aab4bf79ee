// Fields and options of a desk as controls: in the words of its owner, and what of them is sent.
import type { Field } from "../api/client";
import type { Entries, Entry } from "../form";
import type { FormField } from "../parts/FieldInput";
import type { DeskPage } from "./queries";

/** A field as the desk shows it: in the owner's words, and without what only engineers need. */
export function deskField(field: Field, desk: DeskPage): FormField {
  const words = desk.words[field.name];
  return {
    ...field,
    label: words?.label ?? field.name,
    meaning: words?.hint ?? "",
    seen: null,
    missing: field.missing && field.kind === "yes/no", // elsewhere an empty entry says it
    missingText: "not known",
    choices: field.missing && field.kind === "choice" ? ["", ...field.choices] : field.choices,
    choiceTexts: field.kind === "yes/no" ? { true: "yes", false: "no" } : { "": "not known" },
    placeholder: placeholderOf(field),
  };
}

function placeholderOf(field: Field): string | undefined {
  if (field.example === null || (field.kind === "choice" && field.unseen === "refuse")) return undefined;
  return `such as ${String(field.example)}${field.missing ? ", or empty" : ""}`;
}

export function firstEntry(field: Field): Entry {
  return field.default !== null && field.default !== undefined ? String(field.default) : "";
}

/** The entries as they are sent: what was left empty is missing, where it may be. */
export const sent = (fields: Field[], entries: Entries): Entries =>
  Object.fromEntries(fields.map((field) => [field.name, entries[field.name] || (field.missing ? null : (entries[field.name] ?? null))]));
