import { LockKeyhole } from "lucide-react";
import { useId } from "react";
import type { Fault, Field } from "../api/client";
import type { Entry } from "../form";
import { PictureInput } from "./PictureInput";
import { SelectMenu } from "./SelectMenu";

type Props = {
  field: Field;
  entry: Entry;
  fault?: Fault;
  onChange: (entry: Entry) => void;
  /** Of a picture: the name of its file. */
  onFile?: (name: string) => void;
};

/** One field of the schema: its name, what it means, a control that suits its kind, and what is wrong with it if anything is. */
export function FieldInput({ field, entry, fault, onChange, onFile }: Props) {
  const id = useId();
  const note = `${id}-note`;
  const wrong = fault !== undefined;
  const said = field.meaning ?? field.expected;
  const shared = { id, "aria-invalid": wrong, "aria-describedby": note };
  return (
    <div className={`min-w-0 ${isWide(field) ? "col-span-2" : ""}`}>
      <div className="flex items-baseline justify-between gap-2">
        <label htmlFor={id} className="truncate font-mono" title={field.meaning ?? field.name}>
          {field.name}
        </label>
        <span className="flex shrink-0 items-center gap-3 text-small text-faint">
          {field.private && (
            <span className="flex items-center gap-1" title="its values are answered and kept nowhere">
              <LockKeyhole size={12} aria-hidden /> not recorded
            </span>
          )}
          {field.missing && (
            <label className="flex items-center gap-1">
              <input
                type="checkbox"
                className="accent-(--slate)"
                checked={entry === null}
                onChange={(event) => onChange(event.target.checked ? null : startOf(field))}
              />
              missing
            </label>
          )}
        </span>
      </div>
      <div className="relative mt-1">
        <Control {...shared} field={field} entry={entry} onChange={onChange} onFile={onFile} />
      </div>
      <p id={note} className={`mt-1 flex justify-between gap-3 text-small ${wrong ? "text-brick" : "text-faint"}`}>
        <span className="truncate" title={wrong ? sayFault(fault) : said}>
          {wrong ? sayFault(fault) : said}
        </span>
        {!wrong && range(field) && (
          <span className="shrink-0" title="seen in training">
            {range(field)}
          </span>
        )}
      </p>
    </div>
  );
}

type ControlProps = Omit<Props, "fault"> & { id: string; "aria-invalid": boolean; "aria-describedby": string };

function Control({ field, entry, onChange, onFile, ...aria }: ControlProps) {
  if (field.kind === "yes/no") return <YesNo entry={entry} onChange={onChange} {...aria} />;
  if (field.kind === "image") return <PictureInput field={field} entry={entry} onChange={onChange} onFile={onFile} {...aria} />;
  if (field.kind === "choice" && field.unseen === "refuse") return <Choice field={field} entry={entry} onChange={onChange} {...aria} />;
  if (isWide(field))
    return (
      <textarea
        {...aria}
        className="control h-auto! resize-y py-1!"
        rows={field.kind === "text" ? 2 : 3}
        value={entry ?? ""}
        disabled={entry === null}
        placeholder={entry === null ? "missing" : undefined}
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
        placeholder={entry === null ? "missing" : field.kind === "time" ? "2026-11-23T18:30:00Z" : undefined}
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
function isWide(field: Field): boolean {
  return field.kind === "text" || field.kind === "tensor" || field.kind === "image";
}

function Choice({ field, entry, onChange, ...aria }: ControlProps) {
  return (
    <SelectMenu
      {...aria}
      value={entry ?? ""}
      disabled={entry === null}
      placeholder={entry === null ? "missing" : "choose"}
      onChange={onChange}
      options={field.choices.map((value) => ({ value }))}
    />
  );
}

function YesNo({ entry, onChange, id, ...aria }: Omit<ControlProps, "field">) {
  return (
    <div role="radiogroup" {...aria} className="flex h-8 overflow-hidden rounded-small border border-line bg-card">
      {(["true", "false"] as const).map((value, at) => (
        <label
          key={value}
          className={`flex flex-1 cursor-pointer items-center justify-center font-mono has-focus-visible:outline-2 has-focus-visible:-outline-offset-2 has-focus-visible:outline-slate ${
            entry === value ? "bg-sunk font-semibold" : "text-faint hover:text-ink"
          } ${at ? "border-l border-line" : ""}`}
        >
          <input
            id={at === 0 ? id : undefined}
            type="radio"
            name={id}
            className="sr-only"
            checked={entry === value}
            disabled={entry === null}
            onChange={() => onChange(value)}
          />
          {value}
        </label>
      ))}
    </div>
  );
}

/** The range a number had in training. */
function range(field: Field): string | null {
  return field.seen && `${field.seen[0]} – ${field.seen[1]}`;
}

function sayFault(fault: Fault): string {
  return fault.hint ? `${fault.expected}: ${fault.hint}` : `expected ${fault.expected}`;
}

function startOf(field: Field): string {
  if (field.example !== null && field.example !== undefined) return String(field.example);
  return field.kind === "yes/no" ? "false" : "";
}
