import { useMutation, useQueryClient } from "@tanstack/react-query";
import { FileUp } from "lucide-react";
import { type DragEvent, useRef, useState } from "react";
import { Link, useNavigate } from "react-router";
import { api, good, ProblemError } from "../api/client";
import { Bar } from "../parts/Bar";
import { Button, Trouble } from "../parts/basics";
import { bodyOf, type Entries, type Entry } from "../form";
import { FieldInput } from "../parts/FieldInput";
import { SelectMenu } from "../parts/SelectMenu";
import { count, plural, when } from "../words";
import { bringDeskFile, type DeskPage, isUnderWay, type Match, type Result, useResults } from "./queries";
import { deskField, firstEntry, sent } from "./fields";
import { RejectTable } from "./RejectTable";

type Brought = { id: string; name: string };

/** Bring a file, see how it is understood and what does not fit, then have it answered. */
export function FilePage({ endpoint, desk }: { endpoint: string; desk: DeskPage }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const [brought, setBrought] = useState<Brought | null>(null);
  const [part, setPart] = useState(0);
  const [sheet, setSheet] = useState<string | null>(null);
  const [entries, setEntries] = useState<Entries>(() =>
    Object.fromEntries(desk.options.map((option) => [option.name, firstEntry(option)])),
  );
  const optionsOf = (all: Entries): Record<string, unknown> =>
    JSON.parse(bodyOf(desk.options, [], sent(desk.options, all))) as Record<string, unknown>;
  const results = useResults(endpoint);
  const match = useMutation({
    mutationFn: async ({ id, columns, of, all }: { id: string; columns: Record<string, string> | null; of: string | null; all: Entries }) =>
      good(
        await api.POST("/api/desk/{endpoint}/files/{file}/match", {
          params: { path: { endpoint, file: id } },
          body: { columns, sheet: of, options: optionsOf(all) },
        }),
      ),
  });
  const bring = useMutation({
    mutationFn: async (file: File) => ({ id: await bringDeskFile(endpoint, file, setPart), name: file.name }),
    onMutate: () => {
      setPart(0);
      setBrought(null);
      setSheet(null);
      match.reset();
    },
    onSuccess: (file) => {
      setBrought(file);
      match.mutate({ id: file.id, columns: null, of: null, all: entries });
    },
  });
  const start = useMutation({
    mutationFn: async ({ id, columns }: { id: string; columns: Record<string, string> }) =>
      good(
        await api.POST("/api/desk/{endpoint}/results", {
          params: { path: { endpoint } },
          body: { file: id, columns, sheet, options: optionsOf(entries) },
        }),
      ),
    onSuccess: (result) => {
      void queries.invalidateQueries({ queryKey: ["desk", endpoint, "results"] });
      void navigate(`../results/${result.name}`);
    },
  });
  const found = match.data;
  const columns = found ? statedOf(found) : {};

  function change(field: string, column: string): void {
    if (brought) match.mutate({ id: brought.id, columns: { ...columns, [field]: column }, of: sheet, all: entries });
  }

  function changeOption(name: string, entry: Entry): void {
    const all = { ...entries, [name]: entry };
    setEntries(all);
    if (brought) match.mutate({ id: brought.id, columns, of: sheet, all });
  }

  function choose(name: string): void {
    setSheet(name);
    if (brought) match.mutate({ id: brought.id, columns: null, of: name, all: entries });
  }

  const error = bring.error ?? match.error ?? start.error;
  return (
    <div className="mt-4 grid gap-6">
      <DropPlace busy={bring.isPending} part={part} name={brought?.name} onFile={(file) => bring.mutate(file)} />
      {error && <Trouble error={error instanceof ProblemError ? error : new Error(error.message)} />}
      {match.isPending && <p className="text-soft">Reading {brought?.name} …</p>}
      {brought && found && found.sheets.length > 0 && (
        <section aria-label="sheets" className="rounded-card border border-line bg-card p-4">
          <p>The file has several sheets. Which one is meant?</p>
          <div className="mt-2 flex flex-wrap gap-2">
            {found.sheets.map((name) => (
              <Button key={name} onClick={() => choose(name)}>
                {name}
              </Button>
            ))}
          </div>
        </section>
      )}
      {brought && found && found.sheets.length === 0 && (
        <>
          <Columns desk={desk} found={found} onChange={change} />
          {desk.options.length > 0 && (
            <section aria-label="for all rows" className="grid gap-x-6 gap-y-4 rounded-card border border-line bg-card p-4 sm:grid-cols-2">
              {desk.options.map((option) => (
                <FieldInput
                  key={option.name}
                  field={deskField(option, desk)}
                  entry={entries[option.name] ?? null}
                  onChange={(entry) => changeOption(option.name, entry)}
                />
              ))}
            </section>
          )}
          <FirstRows found={found} />
          <section aria-label="before it starts" className="rounded-card border border-line bg-card p-4">
            {found.problem ? (
              <p role="alert" className="break-words text-brick">
                It cannot be answered yet: {found.problem}
              </p>
            ) : (
              <>
                <p className="text-lead">
                  {plural(found.rows ?? 0, "row")}
                  {found.whole ? "" : " were looked at, and there are more"}
                  {found.rejects ? (
                    <>
                      , of which <strong className="text-brick">{count(found.rejects)}</strong> would stay without an answer
                    </>
                  ) : (
                    ", all of them fit"
                  )}
                  .
                </p>
                {found.rejects > 0 && <RejectTable rejects={found.first_rejects} all={found.rejects} desk={desk} />}
                <Button
                  kind="main"
                  className="mt-4 h-10! px-6! max-sm:w-full"
                  disabled={start.isPending || found.rows === 0 || found.rejects === found.rows}
                  onClick={() => start.mutate({ id: brought.id, columns })}
                >
                  {start.isPending ? "Starting …" : `Answer ${found.whole ? count((found.rows ?? 0) - found.rejects) : "all"} rows`}
                </Button>
              </>
            )}
          </section>
        </>
      )}
      {!brought && !bring.isPending && (results.data?.length ?? 0) > 0 && <Earlier results={results.data!} desk={desk} />}
    </div>
  );
}

function statedOf(found: Match): Record<string, string> {
  return Object.fromEntries(Object.entries(found.matched).map(([field, column]) => [field, column ?? ""]));
}

function DropPlace({ busy, part, name, onFile }: { busy: boolean; part: number; name?: string; onFile: (file: File) => void }) {
  const input = useRef<HTMLInputElement>(null);
  const [over, setOver] = useState(false);
  function drop(event: DragEvent): void {
    event.preventDefault();
    setOver(false);
    const file = event.dataTransfer.files[0];
    if (file) onFile(file);
  }
  return (
    <div
      onDragOver={(event) => {
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={drop}
      className={`rounded-card border-2 border-dashed p-6 text-center ${over ? "border-amber-fill bg-amber-wash" : "border-line"} ${name ? "py-3!" : ""}`}
    >
      <input
        ref={input}
        type="file"
        accept=".csv,.xlsx"
        className="sr-only"
        tabIndex={-1}
        aria-label="a CSV or XLSX file"
        onChange={(event) => {
          const file = event.target.files?.[0];
          if (file) onFile(file);
          event.target.value = "";
        }}
      />
      {busy ? (
        <div className="mx-auto max-w-80">
          <p className="text-soft">Bringing the file …</p>
          <Bar part={part} label="how much of the file is there" tone="live" className="mt-2" />
        </div>
      ) : (
        <p className="flex flex-wrap items-center justify-center gap-x-3 gap-y-2 text-soft">
          {name ? (
            <span className="font-semibold break-all text-ink">{name}</span>
          ) : (
            <span className="flex items-center gap-2">
              <FileUp size={18} aria-hidden /> Drop a CSV or XLSX file here
            </span>
          )}
          <Button onClick={() => input.current?.click()}>{name ? "Another file" : "Choose a file"}</Button>
        </p>
      )}
    </div>
  );
}

/** Which column holds what, to be mended by hand. */
function Columns({ desk, found, onChange }: { desk: DeskPage; found: Match; onChange: (field: string, column: string) => void }) {
  const lost = desk.fields.filter((field) => !found.matched[field.name]);
  const needed = lost.filter((field) => !field.missing && field.default === null);
  return (
    <section aria-label="columns" className="rounded-card border border-line bg-card p-4">
      <h2 className="font-semibold">Which column holds what?</h2>
      {needed.length > 0 && (
        <p className="mt-1 text-brick">
          No column was found for {needed.map((field) => desk.words[field.name]?.label ?? field.name).join(", ")}. Choose{" "}
          {needed.length > 1 ? "them" : "it"} below.
        </p>
      )}
      <div className="mt-3 grid gap-x-6 gap-y-3 sm:grid-cols-2 lg:grid-cols-3">
        {desk.fields.map((field) => {
          const label = desk.words[field.name]?.label ?? field.name;
          return (
            <div key={field.name} className="min-w-0">
              <p className="text-small text-soft">{label}</p>
              <SelectMenu
                label={`column of ${label}`}
                className="mt-1"
                value={found.matched[field.name] ?? ""}
                onChange={(column) => onChange(field.name, column)}
                options={[
                  { value: "", text: field.missing || field.default !== null ? "none: it is not known" : "choose a column" },
                  ...[...new Set(found.columns)].filter(Boolean).map((column) => ({ value: column })),
                ]}
              />
            </div>
          );
        })}
      </div>
    </section>
  );
}

function FirstRows({ found }: { found: Match }) {
  const used = new Set(Object.values(found.matched));
  const columns = [...new Set(found.columns)];
  return (
    <section aria-label="first rows" className="rounded-card border border-line bg-card p-4">
      <h2 className="font-semibold">The first rows</h2>
      <div className="mt-2 overflow-x-auto" aria-label="the first rows of the file" role="region">
        <table className="w-full text-small">
          <thead>
            <tr>
              {columns.map((column) => (
                <th
                  key={column}
                  className={`px-2 py-1 text-left whitespace-nowrap ${used.has(column) ? "font-semibold" : "font-normal text-faint"}`}
                >
                  {column}
                </th>
              ))}
            </tr>
          </thead>
          <tbody>
            {found.first.map((row, at) => (
              <tr key={at} className="border-t border-line">
                {columns.map((column) => (
                  <td key={column} className={`max-w-60 truncate px-2 py-1 whitespace-nowrap ${used.has(column) ? "" : "text-faint"}`}>
                    {String(row[column] ?? "")}
                  </td>
                ))}
              </tr>
            ))}
          </tbody>
        </table>
      </div>
    </section>
  );
}

function Earlier({ results, desk }: { results: Result[]; desk: DeskPage }) {
  return (
    <section aria-label="earlier files" className="rounded-card border border-line bg-card p-4">
      <h2 className="font-semibold">Files that were answered</h2>
      <ul className="mt-1">
        {results.map((result) => (
          <li
            key={result.name}
            className="flex flex-wrap items-baseline justify-between gap-x-4 border-t border-line py-2 first:border-t-0"
          >
            <Link to={`../results/${result.name}`} className="font-semibold break-all underline">
              {result.file_name}
            </Link>
            <span className="text-small text-soft">
              {isUnderWay(result) ? "is being answered" : result.state === "finished" ? plural(result.rows, "row") : "was not answered"},{" "}
              {when(result.made_at)}
            </span>
          </li>
        ))}
      </ul>
      <p className="mt-2 text-small text-soft">They are deleted {desk.keep_days} days after they were brought.</p>
    </section>
  );
}
