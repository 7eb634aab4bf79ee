import { Link, useParams } from "react-router";
import type { Field, Profile, VersionPage as Page } from "../api/client";
import { useVersion, useVersions } from "../api/queries";
import { Card, CopyButton, Mono, Snippets, Trouble, Waiting } from "../parts/basics";
import { Histogram } from "../parts/Histogram";
import { ago, bytes, count, ms } from "../words";

/** One version: does it give training's answers, what goes in and out, how did it come to be? */
export function VersionPage() {
  const { model = "", number = "" } = useParams();
  const page = useVersion(model, Number(number));
  if (page.error && !page.data) return <Trouble error={page.error} again={() => void page.refetch()} />;
  if (!page.data) return <Waiting height={480} label={`loading ${model}@${number}`} />;
  const said = page.data;
  return (
    <>
      <h1 className={`font-mono text-title font-semibold ${said.serves.length ? "text-amber" : ""}`}>{said.name}</h1>
      <p className="mt-1 text-lead text-soft">
        <Sentence page={said} />
      </p>
      {(said.owner ?? said.purpose) && (
        <p className="mt-1 text-soft">
          {said.purpose} {said.owner && `Answered for by ${said.owner}.`}
        </p>
      )}
      {said.proof === "failed" && said.proof_summary && (
        <div className="mt-4 rounded-card border border-brick bg-brick-wash p-4">
          <p className="font-semibold text-brick">It takes no traffic</p>
          <p className="mt-1">{said.proof_summary}</p>
        </div>
      )}
      <Card title="What goes in" className="mt-6" aside={<Rows page={said} />}>
        <Fields fields={said.inputs} profiles={said.reference_inputs} />
      </Card>
      {said.options.length > 0 && (
        <Card title="Options of a call" className="mt-4">
          <Fields fields={said.options} profiles={[]} />
        </Card>
      )}
      <Card title="What comes out" className="mt-4">
        <Fields fields={said.answers} profiles={said.reference_answers} />
      </Card>
      <div className="mt-4 grid grid-cols-2 items-start gap-4 *:min-w-0">
        <Story page={said} />
        <div className="grid gap-4 *:min-w-0">
          <Card title="Serve it">
            <p className="text-soft">It is opened and proven first; what is served goes on until then.</p>
            <Snippets all={[{ name: "Command", text: `lamppost point ${said.model} ${said.name}` }]} id="how to serve it" />
          </Card>
          <Others page={said} />
          <Files page={said} />
        </div>
      </div>
    </>
  );
}

function Sentence({ page }: { page: Page }) {
  const proof = {
    passed: `Proven: ${page.proof_summary ?? ""}.`,
    failed: "Its proof failed.",
    "not yet": "Not proven yet; that happens before it serves.",
  }[page.proof];
  return (
    <span>
      {page.retired_at && `Retired ${ago(page.retired_at)}: it is kept, and can serve no more. `}
      {page.serves.length
        ? `Serves ${page.serves.join(", ")}. `
        : page.served.length
          ? `Serves nothing; it served ${page.served.join(", ")} before. `
          : "Serves nothing. "}
      {proof} Pushed by {page.pushed_by} {ago(page.pushed_at)}.
    </span>
  );
}

const Rows = ({ page }: { page: Page }) =>
  page.reference_rows === null ? null : <span className="text-small text-faint">over {count(page.reference_rows)} rows of training</span>;

function Fields({ fields, profiles }: { fields: Field[]; profiles: Profile[] }) {
  const rows = fields.flatMap((field) =>
    field.kind === "vector"
      ? field.choices.map((name) => ({ key: `${field.name}.${name}`, expected: "a number", meaning: field.meaning }))
      : [
          {
            key: field.name,
            expected: field.expected,
            meaning: field.private ? `${field.meaning ?? ""} (not recorded)`.trim() : field.meaning,
          },
        ],
  );
  const known = new Map(profiles.map((profile) => [profile.name, profile]));
  return (
    <table className="figures w-full table-fixed">
      <thead>
        <tr>
          <th className="w-44">field</th>
          <th>is</th>
          <th>meaning</th>
          <th className="num w-16">missing</th>
          <th className="w-72">in training</th>
        </tr>
      </thead>
      <tbody>
        {rows.map((row) => {
          const profile =
            known.get(row.key) ?? known.get(`${row.key}.brightness`) ?? known.get(`${row.key}.length`) ?? known.get(`${row.key}.mean`);
          return (
            <tr key={row.key}>
              <td className="truncate font-mono">
                {row.key}
                {profile && profile.name !== row.key && (
                  <span className="font-sans text-small text-faint"> {profile.name.slice(row.key.length + 1)}</span>
                )}
              </td>
              <td className="truncate" title={row.expected}>
                {row.expected}
              </td>
              <td className="truncate text-soft" title={row.meaning ?? ""}>
                {row.meaning}
              </td>
              <td className="num">{profile?.missing ? `${((100 * profile.missing) / profile.count).toFixed(1)} %` : "–"}</td>
              <td>{profile && <Histogram profile={profile} />}</td>
            </tr>
          );
        })}
      </tbody>
    </table>
  );
}

function Story({ page }: { page: Page }) {
  const { provenance } = page;
  const lines: [string, string][] = [
    ...page.steps.map((step, at): [string, string] => [`step ${at}`, step]),
    ["proof", `${page.proof_rows} rows with the answers training gave`],
    ...speed(page),
    ...(provenance.quantized ? [["smaller", provenance.quantized] as [string, string]] : []),
    ...packed(page),
    ...(provenance.trained_rows == null ? [] : [["trained on", `${count(provenance.trained_rows)} rows`] as [string, string]]),
    ...Object.entries(provenance.metrics ?? {}).map(([name, value]): [string, string] => [name, String(value)]),
    ...Object.entries(provenance.tags ?? {}).map(([name, value]): [string, string] => [name, value]),
    [
      "made with",
      [`Python ${provenance.python}`, ...Object.entries(provenance.libraries ?? {}).map(([name, version]) => `${name} ${version}`)].join(
        ", ",
      ),
    ],
  ];
  return (
    <Card title="How it came to be">
      {provenance.notes && <p className="mb-3">{provenance.notes}</p>}
      <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
        {lines.map(([name, value]) => (
          <div key={name} className="contents">
            <dt className="text-faint">{name}</dt>
            <dd className="min-w-0 break-words">{value}</dd>
          </div>
        ))}
      </dl>
    </Card>
  );
}

function speed({ measured }: Page): [string, string][] {
  if (!measured) return [];
  return [
    ["speed", `one row ${ms(measured.row_ms)} ms, 64 rows ${ms(measured.batch_ms)} ms, there and back`],
    ["opens", `and proves itself in ${measured.open_s.toFixed(2)} s; its worker holds ${bytes(measured.memory_bytes)}`],
  ];
}

/** Who packed it, of which commit, and whose signatures it carries. */
function packed({ provenance, signers }: Page): [string, string][] {
  const commit = provenance.commit ? `at commit ${provenance.commit.slice(0, 12)}${provenance.changed ? " with changes" : ""}` : "";
  const said = [provenance.by ? `by ${provenance.by}` : "", commit, provenance.at ? `of ${provenance.at.slice(0, 10)}` : ""]
    .filter(Boolean)
    .join(" ");
  return [...(said ? [["packed", said] as [string, string]] : []), ...signers.map((key): [string, string] => ["signed by", key])];
}

function Others({ page }: { page: Page }) {
  const versions = useVersions("");
  const others = versions.data?.filter((one) => one.model === page.model && one.name !== page.name) ?? [];
  if (!others.length) return null;
  return (
    <Card title="Held against another">
      <p className="flex flex-wrap gap-x-4 gap-y-1">
        {others.slice(0, 12).map((one) => {
          const [before, after] = one.number < page.number ? [one.name, page.name] : [page.name, one.name];
          return (
            <Link key={one.name} className="font-mono text-slate hover:underline" to={`/compare?before=${before}&after=${after}`}>
              {one.name}
            </Link>
          );
        })}
      </p>
    </Card>
  );
}

function Files({ page }: { page: Page }) {
  return (
    <Card title="Files" aside={<CopyButton text={page.digest} label="Copy digest" />}>
      <p className="truncate text-small text-faint" title={page.digest}>
        digest <Mono className="text-soft">{page.digest}</Mono>
      </p>
      <table className="figures mt-1 w-full">
        <tbody>
          {page.files.map((file) => (
            <tr key={file.path}>
              <td className="font-mono">{file.path}</td>
              <td className="num">{bytes(file.size_bytes)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
