import type { Fault, Field } from "../api/client";

type Props = { text: string; fields: Field[]; options: Field[]; faults: Fault[]; onChange: (text: string) => void; onAsk: () => void };

/** The body as it is sent, to write by hand: one row, rows or columns; the schema's help beside it. */
export function BodyEditor({ text, fields, options, faults, onChange, onAsk }: Props) {
  const broken = whyNotJson(text);
  return (
    <div className="grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] gap-4">
      <div>
        <textarea
          aria-label="body"
          aria-invalid={broken !== null || faults.length > 0}
          className="control h-80! resize-y py-2! leading-5"
          value={text}
          spellCheck={false}
          onChange={(event) => onChange(event.target.value)}
          onKeyDown={(event) => {
            if (event.key === "Enter" && (event.ctrlKey || event.metaKey)) {
              event.preventDefault();
              onAsk();
            }
          }}
        />
        <p className={`mt-1 text-small ${broken ? "text-brick" : "text-faint"}`}>
          {broken ?? 'One row, {"rows": [row, …]} or {"columns": {field: [value, …]}}. Ctrl+Enter asks.'}
        </p>
        {faults.length > 0 && (
          <ul className="mt-2 text-small text-brick" aria-label="faults">
            {faults.map((fault, at) => (
              <li key={at}>
                row {fault.row ?? 0}
                {fault.field ? `, ${fault.field}` : ""}: given {fault.given}, expected {fault.expected}
                {fault.hint ? ` (${fault.hint})` : ""}
              </li>
            ))}
          </ul>
        )}
      </div>
      <Help title="fields" fields={fields} />
      {options.length > 0 && <Help title="options" fields={options} />}
    </div>
  );
}

function whyNotJson(text: string): string | null {
  try {
    JSON.parse(text);
    return null;
  } catch (error) {
    return `Not JSON yet: ${error instanceof Error ? error.message : "it cannot be read"}`;
  }
}

const Help = ({ title, fields }: { title: string; fields: Field[] }) => (
  <dl aria-label={title} className="max-h-80 overflow-y-auto text-small">
    {fields.map((field) => (
      <div key={field.name} className="border-b border-line py-1">
        <dt className="font-mono">{field.name}</dt>
        <dd className="text-soft">
          {field.expected}
          {field.meaning && <span className="text-faint"> · {field.meaning}</span>}
        </dd>
      </div>
    ))}
  </dl>
);
