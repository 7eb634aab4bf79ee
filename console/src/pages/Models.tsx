import { Search } from "lucide-react";
import { useDeferredValue } from "react";
import { Link, useSearchParams } from "react-router";
import type { Version } from "../api/client";
import { useVersions } from "../api/queries";
import { Card, Snippets } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Term, Truncated } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { DeleteModel } from "../parts/EndOfVersion";
import { VersionLink } from "../parts/VersionLink";
import { ago, bytes, count, ms, plural } from "../words";

const SHOWN = 100;

/** Which packages are there, which of them are proven, and which is the one I look for? */
export function Models() {
  const [params, setParams] = useSearchParams();
  const search = params.get("search") ?? "";
  const all = useVersions("");
  const found = useVersions(useDeferredValue(search.trim()));
  const versions = search.trim() ? found : all;
  const tags = tagsOf(all.data ?? []);
  const look = (text: string): void => setParams(text ? { search: text } : {}, { replace: true });
  return (
    <>
      <div className="flex items-end justify-between gap-x-8 gap-y-2 max-lg:flex-wrap">
        <div>
          <h1 className="text-title font-semibold">
            <Term word="model">Models</Term>
          </h1>
          <p className="mt-1 text-lead text-soft">
            {all.data ? sentence(new Set(all.data.map((version) => version.model)).size, all.data) : "\u00a0"}
          </p>
        </div>
        {Boolean(all.data?.length) && (
          <label className="relative w-72 shrink-0">
            <span className="sr-only">search models</span>
            <Search size={15} aria-hidden className="absolute top-2 left-2 text-faint" />
            <input
              type="search"
              className="control pl-8!"
              value={search}
              placeholder="name, tag, field …"
              spellCheck={false}
              onChange={(event) => look(event.target.value)}
            />
          </label>
        )}
      </div>
      {tags.length > 0 && (
        <p className="mt-3 flex flex-wrap gap-2" aria-label="tags">
          {tags.map(([tag, amount]) => (
            <button
              key={tag}
              type="button"
              aria-pressed={search.split(/\s+/).includes(tag)}
              className="rounded-full border border-line px-3 py-0.5 text-small text-soft hover:border-slate-fill aria-pressed:border-slate aria-pressed:bg-sunk aria-pressed:text-ink"
              onClick={() => look(toggled(search, tag))}
            >
              {tag} <span className="text-faint">{amount}</span>
            </button>
          ))}
        </p>
      )}
      <div className="mt-6 grid gap-4">
        <QueryState
          query={versions}
          loading="models"
          height={160}
          isEmpty={(some) => !some.length}
          empty={
            search.trim() ? (
              <p className="text-soft">
                No version has all of these words.{" "}
                <button type="button" className="underline hover:text-ink" onClick={() => look("")}>
                  Show every one
                </button>
              </p>
            ) : (
              <Card title="Nothing is stored yet" className="max-w-[640px]">
                <Snippets
                  all={[{ name: "Command", text: "lamppost pack lamp.toml\nlamppost push outage-risk.lamp" }]}
                  id="how to store a package"
                />
              </Card>
            )
          }
        >
          {(some) => <ByModel versions={some} />}
        </QueryState>
      </div>
    </>
  );
}

function ByModel({ versions }: { versions: Version[] }) {
  const models = [...new Set(versions.map((version) => version.model))];
  return (
    <>
      {models.slice(0, SHOWN).map((model) => {
        const mine = versions.filter((version) => version.model === model);
        return (
          <Card
            key={model}
            title={model}
            aside={
              <span className="flex items-center gap-3">
                <Newest all={mine} />
                <DeleteModel model={model} />
              </span>
            }
          >
            <Table model={model} all={mine} />
          </Card>
        );
      })}
      {models.length > SHOWN && <p className="text-soft">and {count(models.length - SHOWN)} more models; words in the search find them.</p>}
    </>
  );
}

function sentence(models: number, versions: Version[]): string {
  if (!models) return "A model is stored by pushing its package.";
  const failed = versions.filter((version) => version.proof === "failed").length;
  const all = `${plural(models, "model")}, ${plural(versions.length, "version")}`;
  return failed ? `${all}; ${plural(failed, "version does", "versions do")} not give training’s answers and cannot serve.` : `${all}.`;
}

/** Every tag with the number of models that have it, those that tell models apart first. */
function tagsOf(versions: Version[]): [string, number][] {
  const models = new Map<string, Set<string>>();
  for (const version of versions)
    for (const [key, value] of Object.entries(version.tags)) {
      const tag = `${key}:${value}`;
      models.set(tag, (models.get(tag) ?? new Set()).add(version.model));
    }
  return [...models]
    .map(([tag, of]): [string, number] => [tag, of.size])
    .filter(([tag]) => !/\s/.test(tag))
    .sort((a, b) => a[1] - b[1] || a[0].localeCompare(b[0]))
    .slice(0, 24);
}

function toggled(search: string, tag: string): string {
  const words = search.split(/\s+/).filter(Boolean);
  return (words.includes(tag) ? words.filter((word) => word !== tag) : [...words, tag]).join(" ");
}

/** From the version that serves, or the one before, to the newest. */
function Newest({ all }: { all: Version[] }) {
  const [newest] = all;
  const before = all.slice(1).find((version) => version.serves.length) ?? all[1];
  if (!newest || !before) return null;
  return (
    <Link className="text-small text-soft underline hover:text-ink" to={`/compare?before=${before.name}&after=${newest.name}`}>
      compare @{before.number} with @{newest.number}
    </Link>
  );
}

const COLUMNS: Column<Version>[] = [
  {
    id: "version",
    width: 176,
    value: (version) => version.number,
    cell: (version) => <VersionLink name={version.name} live={version.serves.length > 0} />,
  },
  {
    id: "serves",
    width: 136,
    value: (version) => version.serves.join(", "),
    cell: (version) =>
      version.serves.length ? <Truncated>{version.serves.join(", ")}</Truncated> : <span className="text-faint">nothing</span>,
    className: "max-w-40",
  },
  {
    id: "proof",
    term: "proof",
    width: 72,
    value: (version) => version.proof,
    className: (version) => (version.proof === "failed" ? "font-semibold text-brick" : ""),
  },
  {
    id: "metrics",
    grow: true,
    value: (version) =>
      Object.entries(version.metrics)
        .map(([name, value]) => `${name} ${value}`)
        .join(", "),
    className: "text-soft",
  },
  { id: "row ms", numeric: true, value: (version) => version.measured?.row_ms, cell: (version) => ms(version.measured?.row_ms) },
  { id: "64 rows ms", numeric: true, value: (version) => version.measured?.batch_ms, cell: (version) => ms(version.measured?.batch_ms) },
  { id: "size", numeric: true, value: (version) => version.size_bytes, cell: (version) => bytes(version.size_bytes) },
  { id: "pushed", width: 104, value: (version) => version.pushed_at, cell: (version) => ago(version.pushed_at), className: "text-soft" },
  { id: "by", width: 88, value: (version) => version.pushed_by, className: "text-soft" },
  {
    id: "tags",
    hidden: true,
    value: (version) =>
      Object.entries(version.tags)
        .map(([key, value]) => `${key}:${value}`)
        .join(" "),
  },
  {
    id: "digest",
    width: 88,
    value: (version) => version.digest,
    cell: (version) => version.digest.slice(0, 8),
    className: "font-mono text-soft",
  },
];

const Table = ({ model, all }: { model: string; all: Version[] }) => (
  <DataTable label={`versions of ${model}`} columns={COLUMNS} rows={all} rowKey={(version) => version.name} height={360} />
);
