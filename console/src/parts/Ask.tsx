import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useMemo, useState } from "react";
import { askVersion, BASE, type EndpointPage as Page, type Fault, type Field, predict, ProblemError } from "../api/client";
import { useMay, useModelVersions } from "../api/queries";
import { checkAll } from "../check";
import { ExplanationCard } from "../explanation/ExplanationCard";
import type { ExplainedRow } from "../explanation/queries";
import { bodyOf, entryOf, exampleEntries, type Entries, entriesOf, type Entry } from "../form";
import { snippets } from "../snippets";
import { plural } from "../words";
import { AnswerView } from "./AnswerView";
import { Button, Card, Mono, Snippets, Trouble } from "./basics";
import { BodyEditor } from "./BodyEditor";
import { FieldInput } from "./FieldInput";
import { OtherAnswer } from "./OtherAnswer";
import { SelectMenu } from "./SelectMenu";

const NOTHING: ReadonlySet<string> = new Set();

/** Ask an endpoint by form or by body, read the answer, and hold it against what another version says to the same row. */
export function Ask({ page }: { page: Page }) {
  const queries = useQueryClient();
  const { inputs, options } = page;
  const start = exampleEntries(inputs, options, page.example);
  const [entries, setEntries] = useState<Entries>(start);
  const [touched, setTouched] = useState<ReadonlySet<string>>(NOTHING);
  const [files, setFiles] = useState<Record<string, string>>({});
  const [text, setText] = useState<string | null>(null);
  const [other, setOther] = useState("");
  const mayAsk = useMay("predict");
  // the example at first, so that there is something to read before anything was asked
  const [explained, setExplained] = useState<ExplainedRow | null>(() => explainedRow(bodyOf(inputs, options, start)));
  const chooser = page.setup.choose?.by === "header" ? page.setup.choose : null;
  const [chosen, setChosen] = useState(chooser ? Object.keys(chooser.cases)[0]! : "");
  const headers: Record<string, string> = chooser && chosen ? { [chooser.name]: chosen } : {};
  const written = bodyOf(inputs, options, entries);
  const body = text ?? written;
  const [model = "", number = ""] = other.split("@");
  const ask = useMutation({
    mutationFn: (sent: string) => predict(page.name, sent, headers),
    onMutate: () => setTouched(NOTHING),
    onSuccess: (_, sent) => setExplained(explainedRow(sent)),
    onSettled: () => setTimeout(() => void queries.invalidateQueries({ queryKey: ["calls", page.name] }), 400),
  });
  const askOther = useMutation({ mutationFn: (sent: string) => askVersion(model, Number(number), sent) });
  const refusal = ask.error instanceof ProblemError ? ask.error : null;
  const faults = useMemo(() => {
    const found = new Map<string, Fault>();
    for (const fault of refusal?.faults ?? []) if (fault.field && !touched.has(fault.field)) found.set(fault.field, fault);
    for (const [name, fault] of checkAll([...inputs, ...options], entries, touched)) found.set(name, fault);
    return found;
  }, [refusal, touched, entries, inputs, options]);
  const refused = (refusal?.faults.length ?? 0) > 0;
  const changed = bodyOf(inputs, options, start) !== written;

  function change(name: string, entry: Entry): void {
    setEntries((before) => ({ ...before, [name]: entry }));
    setTouched((before) => new Set(before).add(name));
  }

  function reset(): void {
    setEntries(start);
    setTouched(NOTHING);
    setFiles({});
    setText(null);
    ask.reset();
    askOther.reset();
  }

  function send(sent = body): void {
    ask.mutate(sent);
    if (other) askOther.mutate(sent);
  }

  /** Other values of some fields, asked at once. */
  function askWith(values: Record<string, unknown>): void {
    const next = { ...(shown ?? entries), ...Object.fromEntries(Object.entries(values).map(([name, value]) => [name, entryOf(value)])) };
    setEntries(next);
    setText(null);
    send(bodyOf(inputs, options, next));
  }

  function submit(event: FormEvent): void {
    event.preventDefault();
    send();
  }

  /** From the form to the body and back; a body that is no single row stays a body. */
  function turn(): void {
    if (text === null) {
      setText(pretty(written));
      return;
    }
    const read = entriesOf(inputs, options, text);
    if (read) {
      setEntries(read);
      setText(null);
    }
  }

  useEffect(() => {
    const first = ask.error && document.querySelector<HTMLElement>('form [aria-invalid="true"]');
    if (first) first.focus();
  }, [ask.error]);

  const control = (field: Field) => (
    <FieldInput
      key={field.name}
      field={field}
      entry={entries[field.name] ?? null}
      fault={faults.get(field.name)}
      onChange={(entry) => change(field.name, entry)}
      onFile={(name) => setFiles((before) => ({ ...before, [field.name]: name }))}
    />
  );
  const shown = text === null ? entries : entriesOf(inputs, options, text);

  return (
    <>
      <div className="mt-6 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-4">
        <Card
          title="Ask"
          aside={
            <span className="flex items-center gap-3 text-small text-faint">
              {changed || text !== null
                ? "your values"
                : inputs.some((field) => field.private) || page.setup.lookups?.length
                  ? "the schema’s example"
                  : "the schema’s example, a real row from training"}
              {(changed || text !== null) && (
                <button type="button" className="text-soft underline hover:text-ink" onClick={reset}>
                  back to the example
                </button>
              )}
              <button
                type="button"
                className="text-soft underline hover:text-ink disabled:no-underline disabled:opacity-50"
                disabled={!shown}
                onClick={turn}
              >
                {text === null ? "write the body" : "fill in the form"}
              </button>
            </span>
          }
        >
          <form onSubmit={submit} aria-label={`ask ${page.name}`}>
            {text === null ? (
              <>
                <div className="grid grid-cols-2 gap-x-4 gap-y-3">{inputs.map(control)}</div>
                {options.length > 0 && (
                  <fieldset className="mt-4 border-t border-line pt-3">
                    <legend className="sr-only">options of this call</legend>
                    <p className="mb-2 text-small text-faint">Options of this call; sent only where they are not the default.</p>
                    <div className="grid grid-cols-2 gap-x-4 gap-y-3">{options.map(control)}</div>
                  </fieldset>
                )}
              </>
            ) : (
              <BodyEditor
                text={text}
                fields={inputs}
                options={options}
                faults={refusal?.faults ?? []}
                onChange={setText}
                onAsk={() => send()}
              />
            )}
            {chooser && (
              <div className="mt-4 flex items-center gap-2 border-t border-line pt-3 text-small text-soft">
                header <Mono>{chooser.name}</Mono>
                <SelectMenu
                  label={`header ${chooser.name}`}
                  className="w-80!"
                  value={chosen}
                  onChange={setChosen}
                  options={[
                    ...Object.entries(chooser.cases).map(([name, version]) => ({ value: name, text: `${name}, by ${version}` })),
                    ...(chooser.other ? [{ value: "", text: `none, by ${chooser.other}` }] : []),
                  ]}
                />
              </div>
            )}
            <div className="mt-4 flex items-center gap-3">
              <Button kind="main" type="submit" className="w-32" disabled={ask.isPending}>
                {ask.isPending ? "Asking …" : "Ask"}
              </Button>
              {text === null && <span className="text-small text-faint">Enter asks too</span>}
              <Others page={page} chosen={other} onChoose={setOther} />
            </div>
          </form>
        </Card>
        <div className="grid gap-4">
          <Card title="Answer" className="min-h-[216px]">
            <div aria-live="polite">
              {refused ? (
                <p role="alert">
                  <span className="font-semibold text-brick">
                    {plural(new Set(refusal?.faults.map((fault) => fault.field)).size, "field needs", "fields need")} a look.
                  </span>{" "}
                  <span className="text-soft">What is expected stands under each. The model was not asked.</span>
                </p>
              ) : ask.error ? (
                <Trouble error={ask.error} />
              ) : ask.data ? (
                <AnswerView answered={ask.data} fields={page.answers} />
              ) : (
                <p className="text-soft">
                  Press <strong className="font-semibold text-ink">Ask</strong>. The answer will be {page.answers[0]?.expected}, with the
                  version that gave it.
                </p>
              )}
            </div>
          </Card>
          {other && <OtherAnswer name={other} asked={askOther} live={ask.data?.answers} />}
          {shown && (
            <Card title="The same call">
              <Snippets
                all={snippets(window.location.origin + BASE, page.name, { inputs, options, entries: shown, files, headers })}
                id="the same call"
              />
            </Card>
          )}
        </div>
      </div>
      {mayAsk && explained && !chooser && (
        <ExplanationCard
          endpoint={page.name}
          served={page.revision}
          of={explained}
          inputs={inputs}
          command={`lamppost explain ${page.name}`}
          onTry={askWith}
        />
      )}
    </>
  );
}

/** The row of a body, to be explained; null for a body of several rows, or of none. */
function explainedRow(body: string): ExplainedRow | null {
  try {
    const { options, ...row } = JSON.parse(body) as Record<string, unknown>;
    if ("rows" in row || "columns" in row) return null;
    return { row, options: (options ?? {}) as Record<string, unknown> };
  } catch {
    return null;
  }
}

/** Which other version of the model is asked too. */
function Others({ page, chosen, onChoose }: { page: Page; chosen: string; onChoose: (name: string) => void }) {
  const model = page.version.split("@")[0]!;
  const versions = useModelVersions([model]);
  const others =
    page.setup.version && !page.setup.lookups?.length
      ? (versions.data?.filter((one) => one.model === model && one.name !== page.version) ?? [])
      : [];
  if (!others.length) return null;
  return (
    <div className="ml-auto flex items-center gap-2 text-small text-faint">
      ask too
      <SelectMenu
        label="ask too"
        className="w-44!"
        value={chosen}
        onChange={onChoose}
        options={[
          { value: "", text: "no other version" },
          ...others.map((one) => ({ value: one.name, note: one.proof === "failed" ? "fails its proof" : undefined })),
        ]}
      />
    </div>
  );
}

function pretty(body: string): string {
  return JSON.stringify(JSON.parse(body) as unknown, null, 2);
}
