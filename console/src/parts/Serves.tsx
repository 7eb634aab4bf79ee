import type { Setup } from "../api/client";
import { Card, Mono } from "./basics";
import { VersionLink } from "./VersionLink";

/** What is served in a few words, each version leading to its page. */
export function Serves({ summary, live = false }: { summary: string; live?: boolean }) {
  return (
    <>
      {summary
        .split(/([a-z0-9-]+@\d+)/)
        .map((part, at) => (at % 2 ? <VersionLink key={at} name={part} live={live} /> : <span key={at}>{part}</span>))}
    </>
  );
}

/** How an endpoint comes to its answers, where that is more than one version that is read strictly. */
export function SetupCard({ endpoint, setup }: { endpoint: string; setup: Setup }) {
  const { choose, together, lookups = [], lenient } = setup;
  if (!choose && !together && !lookups.length && !lenient) return null;
  return (
    <Card title="How it serves" className="mt-4" aside={<span className="text-small text-faint">{`lamppost setup ${endpoint}`}</span>}>
      {choose && (
        <Ways
          head={[choose.by === "field" ? choose.name : `${choose.by} ${choose.name}`, "version"]}
          all={[...Object.entries(choose.cases), ...(choose.other ? [["any other", choose.other] as [string, string]] : [])]}
        />
      )}
      {together && (
        <Ways
          head={["part", "version"]}
          all={[...Object.entries(together.parts), ["their answers combined", together.combine]]}
          there={together.described}
        />
      )}
      {lookups.map((lookup) => (
        <p key={lookup.key} className="mt-2">
          <Mono>{Object.keys(lookup.fields).join(", ")}</Mono> {Object.keys(lookup.fields).length > 1 ? "are" : "is"} looked up by{" "}
          <Mono>{lookup.key}</Mono> in the table <Mono>{lookup.table}</Mono> of <Mono>{lookup.source}</Mono>
          <span className="text-soft">
            , kept for {lookup.ttl_s} s, waited for at most {lookup.timeout_s} s; an unknown key{" "}
            {lookup.unknown === "refuse" ? "is refused" : "leaves them missing"}.
          </span>
        </p>
      ))}
      {lenient && (
        <p className="mt-2">
          Read leniently:{" "}
          <span className="text-soft">
            values whose meaning leaves no doubt, such as numbers as text, are taken, and each answer tells which.
          </span>
        </p>
      )}
    </Card>
  );
}

/** there : what endpoints of other services promised when the setup was made, by address. */
function Ways({ head, all, there = {} }: { head: string[]; all: [string, string][]; there?: Record<string, Record<string, unknown>> }) {
  return (
    <table className="figures">
      <thead>
        <tr>
          {head.map((name) => (
            <th key={name}>{name}</th>
          ))}
        </tr>
      </thead>
      <tbody>
        {all.map(([name, version]) => (
          <tr key={name}>
            <td>
              <Mono>{name}</Mono>
            </td>
            <td>
              <VersionLink name={version} live />
              {version in there && <span className="text-soft">, {String(there[version]!.version)} when it was set up</span>}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
