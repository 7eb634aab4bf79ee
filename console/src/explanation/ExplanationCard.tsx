// Why an answer is as it is: a sentence, what each field contributed, one field through its range, what would change it, and a rule.
import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import type { Field } from "../api/client";
import { saveFile, toCsv } from "../csv";
import { Button, Card, Trouble } from "../parts/basics";
import { CheckField } from "../parts/CheckField";
import { count } from "../words";
import { ContributionTable } from "./ContributionTable";
import { FieldCurve } from "./FieldCurve";
import { Pieces } from "./Pieces";
import { type ExplainedRow, type Explanation, type ExplanationTerms, triedCases, useExplanation } from "./queries";
import { figureName, figureText, searchedText, stoppedText, valueText } from "./wording";

const ROWS = 2_000;
const MORE = 10;
const HAS_RANGE = new Set(["number", "integer", "time", "choice", "yes/no"]);

type Props = {
  endpoint: string;
  /** The revision of the endpoint that answers; 0 for a recorded call, whose version answers. */
  served: number;
  of: ExplainedRow;
  inputs: Field[];
  command: string;
  onTry?: (values: Record<string, unknown>) => void;
};

export function ExplanationCard({ endpoint, served, of, inputs, command, onTry }: Props) {
  const [terms, setTerms] = useState<ExplanationTerms>({ rows: ROWS, together: false, limit: null });
  const found = useExplanation(endpoint, served, of, terms);
  return (
    <Card
      title="Why"
      term="contribution"
      className="mt-4"
      aside={
        <span className="flex items-center gap-4 text-small text-faint">
          <CheckField checked={terms.together} onChange={(together) => setTerms({ ...terms, together })}>
            fields that move together as one
          </CheckField>
          <code>{command}</code>
        </span>
      }
    >
      <div aria-live="polite" aria-busy={found.isFetching} className={found.isPlaceholderData ? "opacity-60" : ""}>
        {found.error ? (
          <Trouble error={found.error} />
        ) : found.data ? (
          <Found
            endpoint={endpoint}
            served={served}
            of={of}
            found={found.data}
            inputs={inputs}
            terms={terms}
            onTerms={setTerms}
            onTry={onTry}
          />
        ) : (
          <p className="min-h-96 text-soft">Asking the model about rows like this one …</p>
        )}
      </div>
    </Card>
  );
}

type FoundProps = Omit<Props, "command"> & {
  found: Explanation;
  terms: ExplanationTerms;
  onTerms: (terms: ExplanationTerms) => void;
};

function Found({ endpoint, served, of, found, inputs, terms, onTerms, onTry }: FoundProps) {
  const [field, setField] = useState<string | null>(null);
  const ranged = found.contributions.flatMap((one) => one.fields).filter((name) => kindOf(inputs, name, HAS_RANGE));
  const shown = inputs.find((one) => one.name === (field && ranged.includes(field) ? field : ranged[0]));
  const known = found.contributions.some((one) => one.amount !== null);
  return (
    <>
      <p className="text-lead">{found.summary}</p>
      <div className="mt-4 grid grid-cols-2 items-start gap-8 *:min-w-0 max-lg:grid-cols-1">
        <div>
          <p className="mb-1 text-small text-faint">
            {figureName(found)}: here {figureText(found, found.value)}, typical {figureText(found, found.typical)}
          </p>
          {known ? (
            <ContributionTable figure={found} contributions={found.contributions} chosen={shown?.name ?? null} onChoose={setField} />
          ) : (
            <p className="text-soft">What the fields contributed could not be told: the package holds no rows of training.</p>
          )}
        </div>
        {shown && <FieldCurve endpoint={endpoint} served={served} of={of} field={shown} onTry={onTry} />}
      </div>
      {found.within.map((one) => (
        <Pieces
          key={one.field}
          figure={found}
          within={one}
          value={found.row[one.field]}
          kind={inputs.find((input) => input.name === one.field)?.kind ?? ""}
        />
      ))}
      {(ranged.length > 0 || found.changes || found.rule) && (
        <div className="mt-5 grid grid-cols-2 items-start gap-8 border-t border-line pt-3 max-lg:grid-cols-1">
          <Changes found={found} inputs={inputs} terms={terms} onTerms={onTerms} onTry={onTry} />
          <div>
            <h3 className="font-semibold">A rule that it follows</h3>
            <p className="mt-1 text-soft">{found.rule ? found.rule.summary : "None was found within the budget."}</p>
          </div>
        </div>
      )}
      <Foot endpoint={endpoint} of={of} found={found} terms={terms} onTerms={onTerms} />
    </>
  );
}

const kindOf = (inputs: Field[], name: string, kinds: Set<string>): boolean =>
  kinds.has(inputs.find((one) => one.name === name)?.kind ?? "");

function Changes({ found, inputs, terms, onTerms, onTry }: Pick<FoundProps, "found" | "inputs" | "terms" | "onTerms" | "onTry">) {
  if (!found.changes) return <LimitForm found={found} onLimit={(limit) => onTerms({ ...terms, limit })} />;
  return (
    <div>
      <h3 className="font-semibold">What would change it</h3>
      {found.changes.changes.length ? (
        <ul className="mt-1">
          {found.changes.changes.map((change) => {
            const says = Object.values(change.answer).find((value) => typeof value !== "object");
            return (
              <li key={change.summary} className="flex min-h-8 items-center gap-2">
                <span>
                  <strong className="font-semibold text-amber">{valueText(says)}</strong>{" "}
                  <span className="text-soft">if {change.summary}</span>
                </span>
                {onTry && change.fields.every((one) => inputs.some((input) => input.name === one.field)) && (
                  <Button className="ml-auto" onClick={() => onTry(Object.fromEntries(change.fields.map((one) => [one.field, one.after])))}>
                    Ask with it
                  </Button>
                )}
              </li>
            );
          })}
        </ul>
      ) : (
        <p className="mt-1 text-soft">{searchedText(found.changes.searched)}</p>
      )}
    </div>
  );
}

/** What a number is to pass. */
function LimitForm({ found, onLimit }: { found: Explanation; onLimit: (limit: number) => void }) {
  const [text, setText] = useState("");
  const limit = Number(text);
  const usable = text.trim() !== "" && Number.isFinite(limit);
  return (
    <form
      onSubmit={(event) => {
        event.preventDefault();
        if (usable) onLimit(limit);
      }}
    >
      <h3 className="font-semibold">What would change it</h3>
      <label className="mt-1 flex items-center gap-2 text-soft">
        so that {found.figure} passes
        <input
          className="h-8 w-28 rounded-small border border-line bg-card px-2 font-mono text-ink"
          inputMode="decimal"
          placeholder={figureText(found, found.typical)}
          value={text}
          onChange={(event) => setText(event.target.value)}
        />
        <Button type="submit" disabled={!usable}>
          Find it
        </Button>
      </label>
    </form>
  );
}

function Foot({ endpoint, of, found, terms, onTerms }: Omit<FoundProps, "served" | "inputs" | "onTry">) {
  const cases = useMutation({
    mutationFn: async () => {
      const all = await triedCases(endpoint, of, terms);
      const fields = Object.keys(all[0]?.row ?? {});
      const flat = all.map((one) => ({ ...one, answer: flattened(one.answer) }));
      const answers = [...new Set(flat.flatMap((one) => Object.keys(one.answer)))];
      const rows = flat.map((one) => [
        one.differs,
        ...fields.map((name) => plain(one.row[name])),
        ...answers.map((name) => plain(one.answer[name])),
      ]);
      saveFile(`${endpoint}-cases.csv`, new Blob([toCsv(["differs", ...fields, ...answers], rows)], { type: "text/csv" }));
    },
  });
  return (
    <p className="mt-4 flex flex-wrap items-center gap-3 text-small text-faint">
      {found.version} was asked about {count(found.asked)} rows in {found.took_ms.toFixed(0)} ms
      {found.failed > 0 && `, and failed on ${count(found.failed)}`}; {stoppedText(found.stopped)}.
      {found.left_out.length > 0 && ` ${found.left_out.join(", ")} stayed as they are.`}
      {(found.stopped === "budget" || found.stopped === "time") && terms.rows < 50_000 && (
        <button
          type="button"
          className="text-soft underline hover:text-ink"
          onClick={() => onTerms({ ...terms, rows: Math.min(50_000, terms.rows * MORE) })}
        >
          ask {count(Math.min(50_000, terms.rows * MORE))} rows
        </button>
      )}
      <button type="button" className="text-soft underline hover:text-ink" disabled={cases.isPending} onClick={() => cases.mutate()}>
        the rows that were tried, as CSV
      </button>
      {cases.error && <span className="text-brick">{cases.error.message}</span>}
    </p>
  );
}

function flattened(answer: Record<string, unknown>): Record<string, unknown> {
  return Object.fromEntries(
    Object.entries(answer).flatMap(([name, value]) =>
      typeof value === "object" && value !== null && !Array.isArray(value)
        ? Object.entries(value).map(([part, number]) => [`${name}.${part}`, number as unknown] as const)
        : [[name, value] as const],
    ),
  );
}

const plain = (value: unknown): string | number | boolean | null =>
  value === undefined || value === null ? null : typeof value === "object" ? JSON.stringify(value) : (value as string | number | boolean);
