import { useMutation, useQueryClient } from "@tanstack/react-query";
import { type FormEvent, useEffect, useState } from "react";
import { useParams } from "react-router";
import { type EndpointPage as Page, type Fault, type Field, predict, ProblemError } from "../api/client";
import { useCalls, useEndpoint } from "../api/queries";
import { bodyOf, exampleEntries, type Entries } from "../form";
import { AnswerView } from "../parts/AnswerView";
import { Button, Card, Mono, Snippets, Trouble, Waiting } from "../parts/basics";
import { CallsTable } from "../parts/CallsTable";
import { FieldInput } from "../parts/FieldInput";
import { Lamp } from "../parts/Lamp";
import { VersionLink } from "../parts/VersionLink";
import { snippets } from "../snippets";
import { ago, count, ms, plural } from "../words";

/** One endpoint: does it serve, how well, and what does it say to this row? */
export function EndpointPage() {
  const { endpoint = "" } = useParams();
  const page = useEndpoint(endpoint);
  if (page.error && !page.data) return <Trouble error={page.error} again={() => void page.refetch()} />;
  if (!page.data) return <Waiting height={480} label={`loading ${endpoint}`} />;
  return (
    <>
      <Head page={page.data} />
      {/* a new version may have other fields: the form starts anew */}
      <Try key={`${page.data.name} ${page.data.version}`} page={page.data} />
      <Calls endpoint={endpoint} />
      <History page={page.data} />
    </>
  );
}

function Head({ page }: { page: Page }) {
  const { hour } = page;
  const figures = [
    ["calls in 1 h", count(hour.calls)],
    ["refused", count(hour.refused)],
    ["failed", count(hour.failed)],
    ["p50 ms", ms(hour.p50_ms)],
    ["p95 ms", ms(hour.p95_ms)],
    ["p99 ms", ms(hour.p99_ms)],
  ] as const;
  return (
    <header>
      <div className="flex items-end justify-between gap-8">
        <h1 className="flex min-w-0 items-center gap-3 text-title font-semibold">
          <Lamp state={page.state} large /> <span className="truncate">{page.name}</span>
        </h1>
        <dl className="flex shrink-0 gap-6" aria-label="last hour">
          {figures.map(([name, value]) => (
            <div key={name} className="text-right">
              <dt className="text-small text-faint">{name}</dt>
              <dd className={`text-lead font-semibold ${name === "failed" && hour.failed ? "text-brick" : ""}`}>{value}</dd>
            </div>
          ))}
        </dl>
      </div>
      <p className="mt-1 text-lead text-soft">
        <Sentence page={page} />
      </p>
    </header>
  );
}

function Sentence({ page }: { page: Page }) {
  const version = <VersionLink name={page.version} live />;
  if (page.state === "out")
    return (
      <span>
        <span className="text-brick">Out.</span> {version} does not serve: {page.why ?? "it is being opened"}
      </span>
    );
  return (
    <span>
      {page.state === "lit" ? "Lit. " : "Flickering: its worker is being replaced. "}
      {page.hour.calls ? `${plural(page.hour.calls, "call")} in the last hour, ` : "No calls in the last hour, "}
      {page.hour.failed ? `${count(page.hour.failed)} failed, ` : page.hour.calls ? "none failed, " : ""}
      served by {version} since {ago(page.since)}.
    </span>
  );
}

function Try({ page }: { page: Page }) {
  const queries = useQueryClient();
  const { inputs, options } = page;
  const start = exampleEntries(inputs, options, page.example);
  const [entries, setEntries] = useState<Entries>(start);
  const [files, setFiles] = useState<Record<string, string>>({});
  const body = bodyOf(inputs, options, entries);
  const ask = useMutation({
    mutationFn: () => predict(page.name, body),
    onSettled: () => setTimeout(() => void queries.invalidateQueries({ queryKey: ["calls", page.name] }), 400),
  });
  const faults = new Map<string, Fault>();
  if (ask.error instanceof ProblemError) for (const fault of ask.error.faults) if (fault.field) faults.set(fault.field, fault);
  const changed = bodyOf(inputs, options, start) !== body;
  const control = (field: Field) => (
    <FieldInput
      key={field.name}
      field={field}
      entry={entries[field.name] ?? null}
      fault={faults.get(field.name)}
      onChange={(entry) => setEntries((before) => ({ ...before, [field.name]: entry }))}
      onFile={(name) => setFiles((before) => ({ ...before, [field.name]: name }))}
    />
  );

  function submit(event: FormEvent): void {
    event.preventDefault();
    ask.mutate();
  }

  useEffect(() => {
    const first = ask.error && document.querySelector<HTMLElement>('form [aria-invalid="true"]');
    if (first) first.focus();
  }, [ask.error]);

  return (
    <div className="mt-6 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-4">
      <Card
        title="Ask"
        aside={
          <span className="flex items-center gap-3 text-small text-faint">
            {changed ? "your values" : inputs.some((field) => field.private) ? "the schema’s example" : "the schema’s example, a real row from training"}
            {changed && (
              <button
                type="button"
                className="text-soft underline hover:text-ink"
                onClick={() => {
                  setEntries(start);
                  setFiles({});
                }}
              >
                back to the example
              </button>
            )}
          </span>
        }
      >
        <form onSubmit={submit} aria-label={`ask ${page.name}`}>
          <div className="grid grid-cols-2 gap-x-4 gap-y-3">{inputs.map(control)}</div>
          {options.length > 0 && (
            <fieldset className="mt-4 border-t border-line pt-3">
              <legend className="sr-only">options of this call</legend>
              <p className="mb-2 text-small text-faint">Options of this call; sent only where they are not the default.</p>
              <div className="grid grid-cols-2 gap-x-4 gap-y-3">{options.map(control)}</div>
            </fieldset>
          )}
          <div className="mt-4 flex items-center gap-3">
            <Button kind="main" type="submit" className="w-32" disabled={ask.isPending}>
              {ask.isPending ? "Asking …" : "Ask"}
            </Button>
            <span className="text-small text-faint">Enter asks too</span>
          </div>
        </form>
      </Card>
      <div className="grid gap-4">
        <Card title="Answer" className="min-h-[216px]">
          <div aria-live="polite">
            {faults.size ? (
              <p role="alert">
                <span className="font-semibold text-brick">{plural(faults.size, "field needs", "fields need")} a look.</span>{" "}
                <span className="text-soft">What is expected stands under each. The model was not asked.</span>
              </p>
            ) : ask.error ? (
              <Trouble error={ask.error} />
            ) : ask.data ? (
              <AnswerView said={ask.data} fields={page.answers} />
            ) : (
              <p className="text-soft">
                Press <strong className="font-semibold text-ink">Ask</strong>. The answer will be {page.answers[0]?.wanted}, with the version that gave it.
              </p>
            )}
          </div>
        </Card>
        <Card title="The same call">
          <Snippets all={snippets(window.location.origin, page.name, { inputs, options, entries, files })} id="the same call" />
        </Card>
      </div>
    </div>
  );
}

function Calls({ endpoint }: { endpoint: string }) {
  const calls = useCalls(endpoint);
  return (
    <Card title="Last calls" className="mt-4" aside={<span className="text-small text-faint">{`lamppost tail ${endpoint} --follow`}</span>}>
      {calls.error && !calls.data ? (
        <Trouble error={calls.error} />
      ) : !calls.data ? (
        <Waiting height={96} label="loading calls" />
      ) : calls.data.length ? (
        <CallsTable calls={calls.data} />
      ) : (
        <p className="text-soft">No call yet. Press Ask above, or copy one of the calls beside it.</p>
      )}
    </Card>
  );
}

function History({ page }: { page: Page }) {
  return (
    <Card title="Served" className="mt-4">
      <table className="figures">
        <thead>
          <tr>
            <th className="num">change</th>
            <th>version</th>
            <th>since</th>
            <th>pointed by</th>
            <th>to have it again</th>
          </tr>
        </thead>
        <tbody>
          {page.history.map((past, at) => (
            <tr key={past.revision}>
              <td className="num">{past.revision}</td>
              <td>
                <VersionLink name={past.version} live={at === 0} />
              </td>
              <td title={past.since}>{ago(past.since)}</td>
              <td>{past.changed_by}</td>
              <td>{at === 0 ? <span className="text-faint">in service</span> : <Mono className="text-soft">{`lamppost point ${page.name} ${past.version}`}</Mono>}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
