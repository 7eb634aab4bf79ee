import { ImportanceOfBoth } from "./ImportanceOfBoth";
import { useSearchParams } from "react-router";
import type { Comparison, Profile, VersionPage } from "../api/client";
import { useComparison, useModelVersions } from "../api/queries";
import { Card } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { type Column, DataTable } from "../table/DataTable";
import { Histogram } from "../parts/Histogram";
import { SameRows } from "../parts/SameRows";
import { VersionLink } from "../parts/VersionLink";
import { bytes, count, ms, plural } from "../words";
import { SelectMenu } from "../parts/SelectMenu";

/** What changed from one version to another, and would it break anybody who calls? The earlier one is slate-blue, the later one amber. */
export function ComparePage() {
  const [params, setParams] = useSearchParams();
  const before = params.get("before") ?? "";
  const after = params.get("after") ?? "";
  const found = useComparison(before, after);
  const versions = useModelVersions([before, after].flatMap((name) => name.split("@")[0] || []));
  const choose = (part: "before" | "after", name: string): void => setParams({ before, after, [part]: name });
  return (
    <>
      <h1 className="flex items-baseline gap-3 text-title font-semibold">
        <Chooser
          label="earlier version"
          name={before}
          all={versions.data?.map((one) => one.name) ?? []}
          onChange={(name) => choose("before", name)}
        />
        <span className="text-soft" aria-label="compared with">
          →
        </span>
        <Chooser
          label="later version"
          name={after}
          all={versions.data?.map((one) => one.name) ?? []}
          onChange={(name) => choose("after", name)}
          live
        />
      </h1>
      <QueryState query={found} loading="the comparison" height={400}>
        {(comparison) => <Compared comparison={comparison} />}
      </QueryState>
    </>
  );
}

type ChooserProps = { label: string; name: string; all: string[]; onChange: (name: string) => void; live?: boolean };

function Chooser({ label, name, all, onChange, live = false }: ChooserProps) {
  return (
    <SelectMenu
      label={label}
      className={`inline-flex! w-auto! ${live ? "text-amber!" : "text-slate!"}`}
      value={name}
      onChange={onChange}
      options={[...new Set([name, ...all])].map((one) => ({ value: one }))}
    />
  );
}

const CHANGE_COLUMNS: Column<Comparison["changes"][number]>[] = [
  {
    id: "callers",
    width: 88,
    value: (change) => (change.breaks ? "breaks" : "–"),
    className: (change) => (change.breaks ? "font-semibold text-brick" : "text-faint"),
  },
  { id: "part", width: 104, value: (change) => change.part },
  { id: "change", grow: true, value: (change) => change.summary },
];

function Compared({ comparison }: { comparison: Comparison }) {
  const breaking = comparison.changes.filter((change) => change.breaks).length;
  return (
    <>
      <p className="mt-2 text-lead text-soft">
        {comparison.before.digest === comparison.after.digest ? (
          "The same package."
        ) : breaking ? (
          <>
            <span className="text-brick">{plural(breaking, "change", "changes")} would break callers</span> of {comparison.before.name}.
          </>
        ) : (
          `${plural(comparison.changes.length, "change")}; none breaks callers of ${comparison.before.name}.`
        )}
        {comparison.after.proof === "failed" && (
          <span className="text-brick">{` ${comparison.after.name} fails its proof and cannot serve.`}</span>
        )}
      </p>
      <Figures before={comparison.before} after={comparison.after} />
      {comparison.before.proof !== "failed" && comparison.after.proof !== "failed" && (
        <SameRows
          key={`${comparison.before.name} ${comparison.after.name}`}
          before={comparison.before.name}
          after={comparison.after.name}
        />
      )}
      {comparison.learned.length > 0 && (
        <Card title="What it learned otherwise" className="mt-4">
          <div className="grid grid-cols-2 gap-8">
            <ul className="list-disc pl-5">
              {comparison.learned.map((line) => (
                <li key={line}>{line}</li>
              ))}
            </ul>
            <ImportanceOfBoth before={comparison.before} after={comparison.after} />
          </div>
        </Card>
      )}
      {comparison.changes.length > 0 && (
        <Card
          title="What changed"
          className="mt-4"
          aside={<code className="text-small text-faint">{`lamppost diff ${comparison.before.name} ${comparison.after.name}`}</code>}
        >
          <DataTable
            label="what changed"
            columns={CHANGE_COLUMNS}
            rows={comparison.changes}
            rowKey={(change) => `${change.part} ${change.summary}`}
          />
        </Card>
      )}
      <Training before={comparison.before} after={comparison.after} />
    </>
  );
}

function Figures({ before, after }: { before: VersionPage; after: VersionPage }) {
  const metrics = [...new Set([...Object.keys(before.metrics), ...Object.keys(after.metrics)])];
  const rows: [string, (page: VersionPage) => string][] = [
    ["proof", (page) => page.proof],
    ["serves", (page) => page.serves.join(", ") || "nothing"],
    ...metrics.map((name): [string, (page: VersionPage) => string] => [name, (page) => String(page.metrics[name] ?? "–")]),
    ["one row, ms", (page) => ms(page.measured?.row_ms)],
    ["64 rows, ms", (page) => ms(page.measured?.batch_ms)],
    ["opens in, s", (page) => page.measured?.open_s.toFixed(2) ?? "–"],
    ["worker holds", (page) => (page.measured ? bytes(page.measured.memory_bytes) : "–")],
    ["size", (page) => bytes(page.size_bytes)],
    ["trained on", (page) => (page.provenance.trained_rows == null ? "–" : `${count(page.provenance.trained_rows)} rows`)],
  ];
  return (
    <Card title="Side by side" className="mt-6">
      <table className="figures w-full table-fixed max-lg:min-w-[32rem]">
        <thead>
          <tr>
            <th className="w-40">
              <span className="sr-only">field</span>
            </th>
            {[before, after].map((page, at) => (
              <th key={at}>
                <VersionLink name={page.name} live={at === 1} />
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {rows.map(([name, value]) => {
            const [one, other] = [value(before), value(after)];
            return (
              <tr key={name}>
                <th scope="row">{name}</th>
                <td className="text-slate">{one}</td>
                <td
                  className={
                    one === other || other === "–"
                      ? "text-faint"
                      : other === "failed"
                        ? "font-semibold text-brick"
                        : "font-semibold text-amber"
                  }
                >
                  {one === other ? "the same" : other}
                </td>
              </tr>
            );
          })}
        </tbody>
      </table>
    </Card>
  );
}

function Training({ before, after }: { before: VersionPage; after: VersionPage }) {
  const old = new Map([...before.reference_inputs, ...before.reference_answers].map((profile) => [profile.name, profile]));
  const now = new Map([...after.reference_inputs, ...after.reference_answers].map((profile) => [profile.name, profile]));
  const names = [...new Set([...old.keys(), ...now.keys()])];
  if (!names.length) return null;
  const one = (profile: Profile | undefined, live: boolean) =>
    profile ? <Histogram profile={profile} live={live} /> : <span className="text-faint">not there</span>;
  return (
    <Card title="In training" className="mt-4">
      <table className="figures w-full table-fixed max-lg:min-w-[32rem]">
        <thead>
          <tr>
            <th className="w-44">field</th>
            <th>{before.name}</th>
            <th>{after.name}</th>
          </tr>
        </thead>
        <tbody>
          {names.map((name) => (
            <tr key={name}>
              <td className="truncate font-mono">{name}</td>
              <td>{one(old.get(name), false)}</td>
              <td>{one(now.get(name), true)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
