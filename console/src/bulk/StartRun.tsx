// Starts a bulk run: what is asked, where the rows are, where the answers go; looked at before anything is scored.
import { Upload as UploadIcon } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, good } from "../api/client";
import { useChannels, useOverview } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Bar } from "../parts/Bar";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { CheckField } from "../parts/CheckField";
import { Given } from "../parts/Given";
import { SelectMenu } from "../parts/SelectMenu";
import { count, plural } from "../words";
import { bringFile, type Check, type Order, usePlaces } from "./queries";

const list = (text: string): string[] =>
  text
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean);

const pairs = (text: string): Record<string, string> =>
  Object.fromEntries(
    list(text).flatMap((part) => {
      const at = part.indexOf("=");
      return at > 0 ? [[part.slice(0, at).trim(), part.slice(at + 1).trim()]] : [];
    }),
  );

/** A name or value in a command line. */
const quoted = (text: string): string => (/^[\w@.,:/=%-]+$/.test(text) ? text : `'${text.replaceAll("'", "'\\''")}'`);

export function StartRun({ endpoint = "" }: { endpoint?: string }) {
  const places = usePlaces(true);
  const overview = useOverview("", true);
  const navigate = useNavigate();
  const [of, setOf] = useState(endpoint);
  const [source, setSource] = useState("");
  const [target, setTarget] = useState("");
  const [keep, setKeep] = useState("");
  const [columns, setColumns] = useState("");
  const [replace, setReplace] = useState(false);
  const [reasons, setReasons] = useState("");
  const [reportTo, setReportTo] = useState("");
  const [reportWhere, setReportWhere] = useState("");
  const [reportSort, setReportSort] = useState("");
  const mails = useChannels().data?.filter((channel) => channel.kind === "mail") ?? [];
  const [brought, setBrought] = useState<{ name: string; part: number; source: string | null } | null>(null);

  const order: Order = {
    questions: list(of).map((one) => ({ of: one, name: list(of).length > 1 ? one.replace("@", "-") : "", options: {} })),
    source: brought?.source ?? source.trim(),
    target: target.trim() || null,
    keep: list(keep),
    columns: pairs(columns),
    replace,
    delimiter: ",",
    most_rejects: 0.01,
    key: [],
    ...(Number(reasons) > 0 ? { reasons: { fields: Number(reasons), rows: 64 } } : {}),
    ...(reportTo || reportWhere.trim() || reportSort.trim()
      ? { report: { to: reportTo ? [reportTo] : [], where: list(reportWhere), sort: list(reportSort), rows: 20 } }
      : {}),
  };
  const ready = order.questions.length > 0 && order.source !== "";
  const check = useServiceChange("bulk", async () => good(await api.POST("/api/bulk/check", { body: { ...order, rows: 5 } })));
  const start = useServiceChange(
    "bulk",
    async () => good(await api.POST("/api/bulk", { body: order })),
    (run) => void navigate(`/bulk/${run.name}`),
  );
  const bring = useServiceChange("bulk", async (file: File) => {
    setBrought({ name: file.name, part: 0, source: null });
    const given = await bringFile(file, (part) => setBrought({ name: file.name, part, source: null }));
    setBrought({ name: file.name, part: 1, source: given });
  });
  const changed = <T,>(set: (value: T) => void) => {
    return (value: T): void => {
      set(value);
      check.reset();
      start.reset();
    };
  };
  const known = places.data;
  const example = known?.folders[0] ? `${known.folders[0]}:lamps.parquet` : "FOLDER:PATH";
  const command = [
    `lamppost bulk start ${list(of).map(quoted).join(" ") || "ENDPOINT"}`,
    `--from ${brought ? quoted(brought.name) : quoted(source.trim() || example)}`,
    ...(target.trim() ? [`--to ${quoted(target.trim())}`] : []),
    ...list(keep).map((one) => `--keep ${quoted(one)}`),
    ...Object.entries(order.columns ?? {}).map(([name, column]) => `--field ${quoted(`${name}=${column}`)}`),
    ...(replace ? ["--replace"] : []),
    ...(order.reasons ? [`--reasons ${order.reasons.fields}`] : []),
    ...(order.report?.to ?? []).map((one) => `--report ${quoted(one)}`),
    ...(order.report?.where ?? []).map((one) => `--report-where ${quoted(one)}`),
    ...(order.report?.sort ?? []).map((one) => `--report-sort=${quoted(one)}`),
  ].join(" ");

  return (
    <Card title="Start one" aside={<span className="text-small text-faint">nothing is scored before the columns fit</span>}>
      <form
        aria-label="start a bulk run"
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          if (ready) start.mutate();
        }}
      >
        <div className="grid grid-cols-2 gap-3 max-lg:grid-cols-1">
          <Given label="endpoint or version" hint="several with commas give several columns of answers">
            <input
              className="control font-mono"
              list="bulk-endpoints"
              placeholder="outage-risk"
              value={of}
              onChange={(event) => changed(setOf)(event.target.value)}
            />
            <datalist id="bulk-endpoints">
              {overview.data?.shown.map((one) => (
                <option key={one.name} value={one.name} />
              ))}
            </datalist>
          </Given>
          <Given label="columns to keep" hint="they stand beside the answers; * for all">
            <input
              className="control font-mono"
              placeholder="lamp_id"
              value={keep}
              onChange={(event) => changed(setKeep)(event.target.value)}
            />
          </Given>
          <Given
            label="rows are in"
            hint={
              known
                ? `a file, or a place: ${[...known.folders.map((one) => `${one}:PATH`), ...known.sources.map((one) => `${one}:TABLE`)].join(", ") || "the operator has named none"}`
                : "a file, or a place on the service"
            }
          >
            <span className="flex gap-2">
              <input
                className="control min-w-0 flex-1 font-mono"
                placeholder={example}
                value={brought ? brought.name : source}
                onChange={(event) => {
                  setBrought(null);
                  changed(setSource)(event.target.value);
                }}
              />
              <label className="inline-flex h-8 shrink-0 cursor-pointer items-center gap-2 rounded-small border border-line bg-card px-3 focus-within:outline-2 hover:border-slate-fill">
                <UploadIcon size={14} aria-hidden /> A file
                <input
                  type="file"
                  aria-label="a file of this machine"
                  className="sr-only"
                  accept=".csv,.xlsx,.gz,.zst,.ndjson,.jsonl,.parquet,.arrow,.feather"
                  onChange={(event) => {
                    const file = event.target.files?.[0];
                    check.reset();
                    start.reset();
                    if (file) bring.mutate(file);
                    event.target.value = "";
                  }}
                />
              </label>
            </span>
          </Given>
          <Given
            label="answers go to"
            hint={
              known
                ? `${[...known.folders.map((one) => `${one}:PATH`), ...known.targets.map((one) => `${one}:TABLE`)].join(", ")}; nothing keeps them here, to be fetched`
                : "a place on the service; nothing keeps them here"
            }
          >
            <input
              className="control font-mono"
              placeholder="kept here"
              value={target}
              onChange={(event) => changed(setTarget)(event.target.value)}
            />
          </Given>
          <Given label="columns of other names" hint="FIELD=COLUMN, with commas between">
            <input
              className="control font-mono"
              placeholder="age_years=age"
              value={columns}
              onChange={(event) => changed(setColumns)(event.target.value)}
            />
          </Given>
          <Given label="reasons of each answer" hint="so many fields that moved it most; they cost 64 more asked rows for each row">
            <input
              className="control font-mono"
              inputMode="numeric"
              placeholder="none"
              value={reasons}
              onChange={(event) => changed(setReasons)(event.target.value)}
            />
          </Given>
          <Given label="report to" hint="a mail channel; the report is on the run's page too">
            <SelectMenu
              label="report to"
              value={reportTo}
              onChange={changed(setReportTo)}
              options={[{ value: "", text: "nobody" }, ...mails.map((channel) => ({ value: channel.name }))]}
            />
          </Given>
          <Given label="rows of the report" hint="conditions with commas between: label = fails; and their order: -scores.fails">
            <span className="flex gap-2">
              <input
                className="control min-w-0 flex-1 font-mono"
                aria-label="conditions on the rows of the report"
                placeholder="label = fails"
                value={reportWhere}
                onChange={(event) => changed(setReportWhere)(event.target.value)}
              />
              <input
                className="control w-40! font-mono"
                aria-label="order of the rows of the report"
                placeholder="-scores.fails"
                value={reportSort}
                onChange={(event) => changed(setReportSort)(event.target.value)}
              />
            </span>
          </Given>
          <div className="flex items-end pb-6">
            <CheckField checked={replace} onChange={changed(setReplace)}>
              replace what is there
            </CheckField>
          </div>
        </div>
        {brought && brought.source === null && !bring.error && (
          <div className="flex items-center gap-3 text-soft">
            bringing {brought.name} <Bar part={brought.part} label={`bringing ${brought.name}`} tone="live" className="w-48" />
          </div>
        )}
        <div className="flex flex-wrap items-center gap-2">
          <Button kind="main" type="submit" disabled={!ready || start.isPending}>
            {start.isPending ? "Looking at it …" : "Start"}
          </Button>
          <Button disabled={!ready || check.isPending} onClick={() => check.mutate()}>
            {check.isPending ? "Looking …" : "Only look"}
          </Button>
        </div>
        {(start.error ?? check.error ?? bring.error) && <Trouble error={(start.error ?? check.error ?? bring.error)!} />}
        {check.data && <Checked check={check.data} />}
      </form>
      <div className="mt-3">
        <Snippets id="the same by command" all={[{ name: "Command", text: command }]} />
      </div>
    </Card>
  );
}

/** What a run would read and write. */
function Checked({ check }: { check: Check }) {
  return (
    <div role="status" className="rounded-small bg-sunk p-3">
      <p className="font-semibold">
        It fits: {check.rows == null ? "rows that only reading will count" : plural(check.rows, "row")},{" "}
        {plural(check.columns.length, "column")}
      </p>
      {check.matches.map((match, at) => (
        <p key={at} className="mt-1 text-soft">
          {Object.entries(match.columns).map(([field, column], place) => (
            <span key={field}>
              {place > 0 && ", "}
              <Mono>{field === column ? field : `${field} = ${column}`}</Mono>
            </span>
          ))}
          {match.defaults.length > 0 && <>; by default or missing: {match.defaults.join(", ")}</>}
        </p>
      ))}
      {check.unused.length > 0 && <p className="mt-1 text-soft">not used: {check.unused.join(", ")}</p>}
      <p className="mt-1 text-soft">
        output: <Mono>{check.output.join(", ")}</Mono>
      </p>
      {check.first.length > 0 && (
        <div className="mt-2 overflow-x-auto">
          <table className="text-small" aria-label="first rows">
            <thead>
              <tr>
                {check.columns.map((column) => (
                  <th key={column} className="h-6 pr-4 text-left font-normal whitespace-nowrap text-faint">
                    {column}
                  </th>
                ))}
              </tr>
            </thead>
            <tbody>
              {check.first.map((row, at) => (
                <tr key={at}>
                  {check.columns.map((column) => (
                    <td key={column} className="h-6 pr-4 font-mono whitespace-nowrap">
                      {String((row as Record<string, unknown>)[column] ?? "")}
                    </td>
                  ))}
                </tr>
              ))}
            </tbody>
          </table>
          <p className="mt-1 text-small text-faint">the first {count(check.first.length)} rows</p>
        </div>
      )}
    </div>
  );
}
