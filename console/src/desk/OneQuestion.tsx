import { useMutation } from "@tanstack/react-query";
import { type FormEvent, useEffect, useMemo, useRef, useState } from "react";
import { type Fault, type Field, ProblemError } from "../api/client";
import { checkAll } from "../check";
import { bodyOf, type Entries, type Entry } from "../form";
import { Bar } from "../parts/Bar";
import { Button, Trouble } from "../parts/basics";
import { FieldInput } from "../parts/FieldInput";
import { plural, short } from "../words";
import { deskField, firstEntry, sent } from "./fields";
import { type DeskPage, postText, type Reason, type Reply } from "./queries";
import { StateMark } from "./StateMark";

/** A form, the answer in a sentence, how sure it is, and why. */
export function OneQuestion({ endpoint, desk }: { endpoint: string; desk: DeskPage }) {
  const all = useMemo(() => [...desk.fields, ...desk.options], [desk]);
  const [entries, setEntries] = useState<Entries>(() => Object.fromEntries(all.map((field) => [field.name, firstEntry(field)])));
  const [touched, setTouched] = useState<ReadonlySet<string>>(new Set());
  const [asked, setAsked] = useState("");
  const path = `/api/desk/${encodeURIComponent(endpoint)}`;
  const answer = useRef<HTMLDivElement>(null);
  const why = useMutation({ mutationFn: (body: string) => postText<Reason[]>(`${path}/why`, body) });
  const ask = useMutation({
    mutationFn: (body: string) => postText<Reply>(`${path}/ask`, body),
    onMutate: (body) => {
      setTouched(new Set());
      setAsked(body);
      why.reset();
    },
    onSuccess: () => setTimeout(() => answer.current?.scrollIntoView({ block: "nearest" }), 0),
  });
  const refusal = ask.error instanceof ProblemError ? ask.error : null;
  const faults = useMemo(() => {
    const found = new Map<string, Fault>();
    for (const fault of refusal?.faults ?? []) if (fault.field && !touched.has(fault.field)) found.set(fault.field, fault);
    for (const [name, fault] of checkAll(all, sent(all, entries), touched)) found.set(name, fault);
    return found;
  }, [refusal, touched, entries, all]);

  function change(name: string, entry: Entry): void {
    setEntries((before) => ({ ...before, [name]: entry }));
    setTouched((before) => new Set(before).add(name));
  }

  function send(event: FormEvent): void {
    event.preventDefault();
    const row = bodyOf(desk.fields, [], sent(desk.fields, entries));
    const options = bodyOf(desk.options, [], sent(desk.options, entries));
    ask.mutate(`{"row": ${row}, "options": ${options}}`);
  }

  useEffect(() => {
    if (ask.error) document.querySelector<HTMLElement>('form [aria-invalid="true"]')?.focus();
  }, [ask.error]);

  const stale = ask.data !== undefined && touched.size > 0;
  return (
    <div className="mt-4 grid gap-6 lg:grid-cols-[minmax(0,1fr)_360px]">
      <form onSubmit={send} noValidate aria-label="your question">
        <div className="grid gap-x-6 gap-y-4 sm:grid-cols-2 max-sm:[&>*]:col-span-1">
          {all.map((field) => (
            <FieldInput
              key={field.name}
              field={deskField(field, desk)}
              entry={entries[field.name] ?? null}
              fault={faultText(field, entries[field.name] ?? null, faults.get(field.name))}
              onChange={(entry) => change(field.name, entry)}
            />
          ))}
        </div>
        <div className="mt-5">
          <Button kind="main" type="submit" className="h-10! px-6! max-sm:w-full" disabled={ask.isPending}>
            {ask.isPending ? "Asking …" : "Ask"}
          </Button>
        </div>
      </form>
      <div ref={answer} aria-live="polite" className="min-w-0">
        {ask.error && refusal?.faults.length ? (
          <p role="alert" className="rounded-card border border-brick bg-brick-wash p-4">
            {plural(refusal.faults.length, "entry is", "entries are")} missing or {refusal.faults.length > 1 ? "do" : "does"} not fit; the
            form says which.
          </p>
        ) : (
          ask.error && <Trouble error={ask.error} />
        )}
        {!ask.error && !ask.data && <p className="text-soft max-lg:hidden">The answer appears here.</p>}
        {ask.data && (
          <section aria-label="the answer" className={`rounded-card border border-line bg-card p-4 ${stale ? "opacity-60" : ""}`}>
            <StateMark state={ask.data.state} large />
            <p className="mt-1 text-title font-semibold break-words">{ask.data.text}</p>
            {stale && <p className="mt-1 text-small text-soft">The form was changed since; ask again.</p>}
            {ask.data.scores.length > 0 && (
              <dl className="mt-4 grid gap-2" aria-label="how sure">
                {ask.data.scores.slice(0, 6).map((score) => (
                  <div key={score.text}>
                    <div className="flex justify-between gap-3 text-small">
                      <dt className="min-w-0 break-words text-soft">{score.text}</dt>
                      <dd className="tabular-nums">{sureText(score.share)}</dd>
                    </div>
                    <Bar part={score.share} label={`${score.text}: how sure`} tone="live" />
                  </div>
                ))}
              </dl>
            )}
            <div className="mt-4">
              {why.data ? (
                <Reasons reasons={why.data} />
              ) : (
                <Button onClick={() => why.mutate(asked)} disabled={why.isPending}>
                  {why.isPending ? "Looking for the reasons …" : "Why?"}
                </Button>
              )}
              {why.error && <p className="mt-2 text-small text-brick">{why.error.message}</p>}
            </div>
          </section>
        )}
      </div>
    </div>
  );
}

/** What moved the answer most: to the right what speaks for it, to the left what speaks against it. */
function Reasons({ reasons }: { reasons: Reason[] }) {
  if (!reasons.length) return <p className="text-soft">No single entry moves this answer much.</p>;
  return (
    <section aria-label="why">
      <h3 className="font-semibold">Why</h3>
      <ul className="mt-1 grid gap-2">
        {reasons.map((reason) => (
          <li key={reason.label}>
            <div className="flex justify-between gap-3 text-small">
              <span className="min-w-0 break-words">
                {reason.label} <span className="text-soft">{valueText(reason.value)}</span>
              </span>
              <span className="whitespace-nowrap text-soft">{reason.share > 0 ? "speaks for it" : "speaks against it"}</span>
            </div>
            <Bar part={Math.abs(reason.share)} label={`${reason.label}: how much`} tone={reason.share > 0 ? "live" : "held"} />
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What is wrong, in the words of a desk. */
function faultText(field: Field, entry: Entry, fault: Fault | undefined): Fault | undefined {
  if (!fault || field.kind !== "yes/no") return fault && entry === "" ? { ...fault, hint: undefined } : fault;
  return { ...fault, expected: "yes or no", hint: undefined };
}

const sureText = (share: number): string =>
  share >= 0.995 && share < 1 ? "over 99 %" : share > 0 && share < 0.005 ? "under 1 %" : `${Math.round(100 * share)} %`;

function valueText(value: unknown): string {
  if (value === null || value === undefined) return "not known";
  if (typeof value === "boolean") return value ? "yes" : "no";
  return typeof value === "number" ? short(value) : String(value);
}
