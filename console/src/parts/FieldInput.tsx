import { LockKeyhole } from "lucide-react";
import { RadioGroup } from "radix-ui";
import { useId } from "react";
import type { Fault, Field } from "../api/client";
import type { Entry } from "../form";
import { short } from "../words";
import { CheckField } from "./CheckField";
import { PictureInput } from "./PictureInput";
import { SelectMenu } from "./SelectMenu";
import { Tip, Truncated } from "./Tip";

/** A field of a form: one of the schema, or one of a setting. */
export type FormField = Pick<
  Field,
  "name" | "kind" | "expected" | "choices" | "unseen" | "missing" | "unit" | "meaning" | "private" | "seen" | "example"
> & {
  /** What it is called on the page, where that is not its name. */
  label?: string;
  /** A short text: one line. */
  oneLine?: boolean;
  /** How a choice is called in the list, where that is not its value. */
  choiceTexts?: Record<string, string>;
  placeholder?: string;
  /** What stands for a value that is missing; "missing" where nothing is said. */
  missingText?: string;
};

/** A field of a setting, by what is particular about it. */
export const settingField = (field: Partial<FormField> & Pick<FormField, "name" | "kind">): FormField => ({
  expected: "",
  choices: [],
  unseen: "refuse",
  missing: false,
  unit: null,
  meaning: null,
  private: false,
  seen: null,
  example: null,
  ...field,
});

type Props = {
  field: FormField;
  entry: Entry;
  fault?: Fault;
  onChange: (entry: Entry) => void;
  /** Of a picture: the name of its file. */
  onFile?: (name: string) => void;
};

/** One field of a form: its name, what it means, a control that suits its kind, and what is wrong with it if anything is. */
export function FieldInput({ field, entry, fault, onChange, onFile }: Props) {
  const id = useId();
  const note = `${id}-note`;
  const wrong = fault !== undefined;
  const below = wrong ? sayFault(fault) : (field.meaning ?? field.expected);
  const shared = { id, "aria-invalid": wrong, "aria-describedby": note };
  return (
    <div className={`min-w-0 ${isWide(field) ? "col-span-2" : ""}`}>
      <div className="flex items-baseline justify-between gap-2">
        <label id={`${id}-label`} htmlFor={id} className={`min-w-0 ${field.label ? "text-small text-soft" : "font-mono"}`}>
          <Truncated focusable={false}>{field.label ?? field.name}</Truncated>
        </label>
        <span className="flex shrink-0 items-center gap-3 text-small text-faint">
          {field.private && (
            <Tip text="Its values are answered and kept nowhere.">
              <span className="flex items-center gap-1">
                <LockKeyhole size={12} aria-hidden /> not recorded
              </span>
            </Tip>
          )}
          {field.missing && (
            <CheckField checked={entry === null} onChange={(missing) => onChange(missing ? null : startOf(field))}>
              {field.missingText ?? "missing"}
            </CheckField>
          )}
        </span>
      </div>
      <div className="relative mt-1">
        <Control {...shared} field={field} entry={entry} onChange={onChange} onFile={onFile} />
      </div>
      <p id={note} className={`mt-1 flex justify-between gap-3 text-small ${wrong ? "text-brick" : "text-faint"}`}>
        <span className="min-w-0">{wrong ? below : <Truncated>{below}</Truncated>}</span>
        {!wrong && range(field) && (
          <Tip text="seen in training">
            <span className="shrink-0">{range(field)}</span>
          </Tip>
        )}
      </p>
    </div>
  );
}

type ControlProps = Omit<Props, "fault"> & { id: string; "aria-invalid": boolean; "aria-describedby": string };

function Control({ field, entry, onChange, onFile, ...aria }: ControlProps) {
  if (field.kind === "yes/no") return <YesNo texts={field.choiceTexts} entry={entry} onChange={onChange} {...aria} />;
  if (field.kind === "image") return <PictureInput field={field} entry={entry} onChange={onChange} onFile={onFile} {...aria} />;
  if (field.kind === "choice" && field.unseen === "refuse") return <Choice field={field} entry={entry} onChange={onChange} {...aria} />;
  if (isWide(field) && !field.oneLine)
    return (
      <textarea
        {...aria}
        className="control h-auto! resize-y py-1!"
        rows={field.kind === "text" ? 2 : 3}
        value={entry ?? ""}
        disabled={entry === null}
        placeholder={entry === null ? (field.missingText ?? "missing") : field.placeholder}
        spellCheck={false}
        onChange={(event) => onChange(event.target.value)}
        onKeyDown={(event) => {
          if (event.key === "Enter" && (event.ctrlKey || event.metaKey || field.kind === "text") && !event.shiftKey) {
            event.preventDefault();
            event.currentTarget.form?.requestSubmit();
          }
        }}
      />
    );
  const numeric = field.kind === "number" || field.kind === "integer";
  return (
    <>
      <input
        {...aria}
        className={`control ${field.unit || field.kind === "time" ? "pr-16" : ""}`}
        value={entry ?? ""}
        disabled={entry === null}
        placeholder={
          entry === null
            ? (field.missingText ?? "missing")
            : (field.placeholder ?? (field.kind === "time" ? "2026-11-23T18:30:00Z" : undefined))
        }
        inputMode={numeric ? "decimal" : undefined}
        autoComplete="off"
        spellCheck={false}
        list={field.kind === "choice" ? `${aria.id}-list` : undefined}
        onChange={(event) => onChange(event.target.value)}
      />
      {field.unit && (
        <span className="pointer-events-none absolute inset-y-0 right-2 flex items-center text-small text-faint">{field.unit}</span>
      )}
      {field.kind === "time" && entry !== null && (
        <button
          type="button"
          className="absolute inset-y-0 right-2 text-small text-soft hover:text-ink"
          onClick={() => onChange(`${new Date().toISOString().slice(0, 19)}Z`)}
        >
          now
        </button>
      )}
      {field.kind === "choice" && (
        <datalist id={`${aria.id}-list`}>
          {field.choices.map((choice) => (
            <option key={choice} value={choice} />
          ))}
        </datalist>
      )}
    </>
  );
}

/** Whether a field takes the whole width: what people write, lists of numbers, pictures. */
function isWide(field: FormField): boolean {
  return (field.kind === "text" && !field.oneLine) || field.kind === "tensor" || field.kind === "image";
}

function Choice({ field, entry, onChange, ...aria }: ControlProps) {
  return (
    <SelectMenu
      {...aria}
      value={entry ?? ""}
      disabled={entry === null}
      placeholder={entry === null ? (field.missingText ?? "missing") : "choose"}
      onChange={onChange}
      options={field.choices.map((value) => ({ value, text: field.choiceTexts?.[value] }))}
    />
  );
}

function YesNo({ texts, entry, onChange, id, ...aria }: Omit<ControlProps, "field" | "onFile"> & { texts?: Record<string, string> }) {
  return (
    <RadioGroup.Root
      {...aria}
      id={id}
      aria-labelledby={`${id}-label`}
      value={entry ?? ""}
      disabled={entry === null}
      onValueChange={onChange}
      orientation="horizontal"
      className="flex h-8 overflow-hidden rounded-small border border-line bg-card"
    >
      {(["true", "false"] as const).map((value, at) => (
        <RadioGroup.Item
          key={value}
          value={value}
          className={`flex-1 font-mono text-faint hover:text-ink focus-visible:-outline-offset-2 data-[state=checked]:bg-sunk data-[state=checked]:font-semibold data-[state=checked]:text-ink ${at ? "border-l border-line" : ""}`}
        >
          {texts?.[value] ?? value}
        </RadioGroup.Item>
      ))}
    </RadioGroup.Root>
  );
}

/** The range a number had in training. */
function range(field: FormField): string | null {
  return field.seen && `${short(field.seen[0]!)} – ${short(field.seen[1]!)}`;
}

function sayFault(fault: Fault): string {
  return fault.hint ? `${fault.expected}: ${fault.hint}` : `expected ${fault.expected}`;
}

function startOf(field: FormField): string {
  if (field.example !== null && field.example !== undefined) return String(field.example);
  return field.kind === "yes/no" ? "false" : "";
}
