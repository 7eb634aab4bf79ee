import type { Version } from "../api/client";
import { useVersions } from "../api/queries";
import { Card, Mono, Snippets, Trouble, Waiting } from "../parts/basics";
import { VersionLink } from "../parts/VersionLink";
import { ago, bytes, plural } from "../words";

/** Which packages are there, and which of them are proven? */
export function Models() {
  const versions = useVersions();
  if (versions.error && !versions.data) return <Trouble error={versions.error} again={() => void versions.refetch()} />;
  const models = [...new Set(versions.data?.map((version) => version.model))];
  return (
    <>
      <h1 className="text-title font-semibold">Models</h1>
      <p className="mt-1 text-lead text-soft">{versions.data ? sentence(models.length, versions.data) : "\u00a0"}</p>
      <div className="mt-6 grid gap-4">
        {!versions.data && <Waiting height={160} label="loading models" />}
        {versions.data && !models.length && (
          <Card title="Nothing is stored yet" className="max-w-[640px]">
            <Snippets all={[{ name: "Command", text: "lamppost pack lamp.toml\nlamppost push outage-risk.lamp" }]} id="how to store a package" />
          </Card>
        )}
        {models.map((model) => (
          <Card key={model} title={model}>
            <Table all={versions.data?.filter((version) => version.model === model) ?? []} />
          </Card>
        ))}
      </div>
    </>
  );
}

function sentence(models: number, versions: Version[]): string {
  if (!models) return "A model is stored by pushing its package.";
  const failed = versions.filter((version) => version.proof === "failed").length;
  const all = `${plural(models, "model")}, ${plural(versions.length, "version")}`;
  return failed ? `${all}; ${plural(failed, "version does", "versions do")} not give training’s answers and cannot serve.` : `${all}.`;
}

function Table({ all }: { all: Version[] }) {
  return (
    <table className="figures w-full">
      <thead>
        <tr>
          <th>version</th>
          <th>serves</th>
          <th>proof</th>
          <th className="w-full" />
          <th className="num">size</th>
          <th>pushed</th>
          <th>by</th>
          <th>digest</th>
        </tr>
      </thead>
      <tbody>
        {all.map((version) => (
          <tr key={version.name}>
            <td>
              <VersionLink name={version.name} live={version.serves.length > 0} />
            </td>
            <td>{version.serves.join(", ") || <span className="text-faint">nothing</span>}</td>
            <td className={version.proof === "failed" ? "font-semibold text-brick" : ""}>{version.proof}</td>
            <td />
            <td className="num">{bytes(version.size_bytes)}</td>
            <td className="text-soft">{ago(version.pushed_at)}</td>
            <td className="text-soft">{version.pushed_by}</td>
            <td>
              <Mono className="text-soft">{version.digest.slice(0, 12)}</Mono>
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
