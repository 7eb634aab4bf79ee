import { Link, useParams } from "react-router";
import type { Field, Profile, VersionPage as VersionDetail } from "../api/client";
import { useVersion, useModelVersions } from "../api/queries";
import { Card, CopyButton, Mono, Snippets } from "../parts/basics";
import { EndOfVersion } from "../parts/EndOfVersion";
import { Histogram } from "../parts/Histogram";
import { Learned } from "./Learned";
import { QueryState } from "../parts/QueryState";
import { Truncated } from "../parts/Tip";
import { type Column, DataTable } from "../table/DataTable";
import { ago, bytes, count, ms, percent } from "../words";

/** One version: does it give training's answers, what goes in and out, how did it come to be? */
export function VersionPage() {
  const { model = "", number = "" } = useParams();
  const page = useVersion(model, Number(number));
  return (
    <QueryState query={page} loading={`${model}@${number}`} height={480}>
      {(version) => <Page version={version} />}
    </QueryState>
  );
}

function Page({ version }: { version: VersionDetail }) {
  return (
    <>
      <h1 className={`font-mono text-title font-semibold ${version.serves.length ? "text-amber" : ""}`}>{version.name}</h1>
      <p className="mt-1 text-lead text-soft">
        <Sentence page={version} />
      </p>
      {(version.owner ?? version.purpose) && (
        <p className="mt-1 text-soft">
          {version.purpose} {version.owner && `Answered for by ${version.owner}.`}
        </p>
      )}
      {version.proof === "failed" && version.proof_summary && (
        <div className="mt-4 rounded-card border border-brick bg-brick-wash p-4">
          <p className="font-semibold text-brick">It takes no traffic</p>
          <p className="mt-1">{version.proof_summary}</p>
        </div>
      )}
      <Learned page={version} />
      <Card title="What goes in" term="field" className="mt-6" aside={<Rows page={version} />}>
        <Fields label="input fields" fields={version.inputs} profiles={version.reference_inputs} />
      </Card>
      {version.options.length > 0 && (
        <Card title="Options of a call" className="mt-4">
          <Fields label="options" fields={version.options} profiles={[]} />
        </Card>
      )}
      <Card title="What comes out" className="mt-4">
        <Fields label="answer fields" fields={version.answers} profiles={version.reference_answers} />
      </Card>
      <div className="mt-4 grid grid-cols-2 items-start gap-4 *:min-w-0">
        <Story page={version} />
        <div className="grid gap-4 *:min-w-0">
          <Card
            title="Serve it"
            aside={
              <span className="flex gap-3 text-small">
                <a className="text-slate hover:underline" href={`/api/models/${version.model}/versions/${version.number}/card`}>
                  its card
                </a>
                <a className="text-slate hover:underline" href={`/api/models/${version.model}/versions/${version.number}/card?form=pdf`}>
                  as PDF
                </a>
              </span>
            }
          >
            <p className="text-soft">It is opened and proven first; what is served goes on until then.</p>
            <Snippets all={[{ name: "Command", text: `lamppost point ${version.model} ${version.name}` }]} id="how to serve it" />
          </Card>
          {version.exportable && <Elsewhere page={version} />}
          <Others page={version} />
          <EndOfVersion page={version} />
          <Files page={version} />
        </div>
      </div>
    </>
  );
}

function Sentence({ page }: { page: VersionDetail }) {
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

const Rows = ({ page }: { page: VersionDetail }) =>
  page.reference_rows === null ? null : <span className="text-small text-faint">over {count(page.reference_rows)} rows of training</span>;

type FieldRow = { key: string; part: string; expected: string; meaning: string; profile: Profile | undefined };

const COLUMNS: Column<FieldRow>[] = [
  {
    id: "field",
    width: 200,
    value: (row) => row.key,
    cell: (row) => (
      <Truncated>
        {row.key}
        {row.part && <span className="font-sans text-small text-faint"> {row.part}</span>}
      </Truncated>
    ),
    className: "max-w-52 font-mono",
  },
  { id: "is", grow: true, value: (row) => row.expected },
  { id: "meaning", grow: true, value: (row) => row.meaning, className: "text-soft" },
  {
    id: "missing",
    numeric: true,
    width: 72,
    value: (row) => row.profile && row.profile.missing / Math.max(1, row.profile.count),
    cell: ({ profile }) => (profile?.missing ? percent(profile.missing / profile.count) : "–"),
  },
  {
    id: "in training",
    width: 288,
    cell: ({ profile }) => profile && <Histogram profile={profile} />,
  },
];

const FEATURES = ["brightness", "length", "mean"];

function Fields({ label, fields, profiles }: { label: string; fields: Field[]; profiles: Profile[] }) {
  const known = new Map(profiles.map((profile) => [profile.name, profile]));
  const row = (key: string, expected: string, meaning: string): FieldRow => {
    const profile = known.get(key) ?? FEATURES.map((feature) => known.get(`${key}.${feature}`)).find(Boolean);
    return { key, expected, meaning, profile, part: profile && profile.name !== key ? profile.name.slice(key.length + 1) : "" };
  };
  const rows = fields.flatMap((field) =>
    field.kind === "vector"
      ? field.choices.map((name) => row(`${field.name}.${name}`, "a number", field.meaning ?? ""))
      : [row(field.name, field.expected, `${field.meaning ?? ""}${field.private ? " (not recorded)" : ""}`.trim())],
  );
  return <DataTable label={label} columns={COLUMNS} rows={rows} rowKey={(one) => one.key} height={480} />;
}

function Story({ page }: { page: VersionDetail }) {
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

function speed({ measured }: VersionDetail): [string, string][] {
  if (!measured) return [];
  return [
    ["speed", `one row ${ms(measured.row_ms)} ms, 64 rows ${ms(measured.batch_ms)} ms, there and back`],
    ["opens", `and proves itself in ${measured.open_s.toFixed(2)} s; its worker holds ${bytes(measured.memory_bytes)}`],
  ];
}

/** Who packed it, of which commit, and whose signatures it carries. */
function packed({ provenance, signers }: VersionDetail): [string, string][] {
  const commit = provenance.commit ? `at commit ${provenance.commit.slice(0, 12)}${provenance.changed ? " with changes" : ""}` : "";
  const words = [provenance.by ? `by ${provenance.by}` : "", commit, provenance.at ? `of ${provenance.at.slice(0, 10)}` : ""]
    .filter(Boolean)
    .join(" ");
  return [...(words ? [["packed", words] as [string, string]] : []), ...signers.map((key): [string, string] => ["signed by", key])];
}

const FORMS = [
  { form: "onnx", text: "ONNX graph" },
  { form: "pmml", text: "PMML document" },
];

function Elsewhere({ page }: { page: VersionDetail }) {
  const command = (form: string, more = "") => ({ name: form, text: `lamppost export ${page.name} --as ${form.toLowerCase()}${more}` });
  return (
    <Card
      title="Take it elsewhere"
      aside={
        <span className="flex gap-3 text-small">
          {FORMS.map(({ form, text }) => (
            <a
              key={form}
              className="text-slate hover:underline"
              href={`/api/models/${page.model}/versions/${page.number}/export?form=${form}`}
              download
            >
              {text}
            </a>
          ))}
        </span>
      }
    >
      <p className="text-soft">Each form is held against this version's own answers on 2,000 rows or more before you get it.</p>
      <Snippets all={[command("SQL", " --table TABLE"), command("Python"), command("C")]} id="how to take it elsewhere" />
    </Card>
  );
}

function Others({ page }: { page: VersionDetail }) {
  const versions = useModelVersions([page.model]);
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

function Files({ page }: { page: VersionDetail }) {
  return (
    <Card title="Files" aside={<CopyButton text={page.digest} label="Copy digest" />}>
      <Truncated className="text-small text-faint" tip={page.digest}>
        digest <Mono className="text-soft">{page.digest}</Mono>
      </Truncated>
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
