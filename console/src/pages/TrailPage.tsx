import { useDeferredValue, useState } from "react";
import { Link, useSearchParams } from "react-router";
import type { Entry } from "../api/client";
import { useTrail } from "../api/queries";
import { Mono, Trouble, Waiting } from "../parts/basics";
import { Serves } from "../parts/Serves";
import { ago, clock } from "../words";

/** Who changed what, when, and from where? */
export function TrailPage() {
  const [params, setParams] = useSearchParams();
  const [typed, setTyped] = useState("");
  const search = useDeferredValue(typed.trim());
  const subject = params.get("subject") ?? "";
  const trail = useTrail(subject, search);
  const found = trail.data;
  return (
    <>
      <div className="flex items-end justify-between gap-6">
        <div>
          <h1 className="text-title font-semibold">Trail</h1>
          <p className="mt-1 text-lead text-soft">
            {found?.[0] ? (
              <>
                Last change {ago(found[0].at)}, by {found[0].token}: {found[0].action} <Mono>{found[0].subject}</Mono>.
              </>
            ) : (
              "Every change, by whom, when, and from what to what. It is only ever added to."
            )}
          </p>
        </div>
        <input
          className="control max-w-72"
          aria-label="search the trail"
          placeholder="words, names, reasons"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
      </div>
      {subject && (
        <p className="mt-2 text-soft">
          Only of <Mono>{subject}</Mono>.{" "}
          <button type="button" className="underline hover:text-ink" onClick={() => setParams({})}>
            Show all
          </button>
        </p>
      )}
      <div className="mt-4">
        {trail.error && !found ? (
          <Trouble error={trail.error} />
        ) : !found ? (
          <Waiting height={320} label="loading the trail" />
        ) : found.length ? (
          <Table all={found} />
        ) : (
          <p className="text-soft">Nothing like that is on the trail.</p>
        )}
      </div>
      <p className="mt-4 text-small text-faint">
        <Mono>{`lamppost trail${subject ? ` ${subject}` : ""}${search ? ` --search "${search}"` : ""}`}</Mono> ·{" "}
        <Mono>lamppost trail --ndjson &gt; trail.ndjson</Mono>
      </p>
    </>
  );
}

function Table({ all }: { all: Entry[] }) {
  return (
    <table className="figures w-full table-fixed rounded-card border border-line bg-card">
      <thead>
        <tr>
          <th className="w-36 !pl-4">when</th>
          <th className="w-32">token</th>
          <th className="w-24">from</th>
          <th className="w-36">did</th>
          <th className="w-36">to</th>
          <th>what</th>
        </tr>
      </thead>
      <tbody>
        {all.map((one) => (
          <tr key={one.number} className="align-top [&>td]:py-1.5">
            <td className="!pl-4" title={one.at}>
              {new Date(one.at).toLocaleDateString("en", { day: "numeric", month: "short" })} {clock(one.at).slice(0, 8)}
            </td>
            <td className="truncate" title={one.token}>
              {one.token}
            </td>
            <td className="truncate font-mono text-small text-soft">{one.address ?? "the service"}</td>
            <td className={one.action === "overrode review" ? "font-semibold text-brick" : ""}>{one.action}</td>
            <td className="truncate">
              <Subject name={one.subject} />
            </td>
            <td className="!whitespace-normal text-soft" title={told(one)}>
              <Serves summary={one.action.includes("rollout") && one.note ? one.note : [told(one), one.note].filter(Boolean).join("; ")} />
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

const Subject = ({ name }: { name: string }) => (
  <Link to={`/trail?subject=${name.split("@")[0]}`} className="font-mono hover:underline">
    {name}
  </Link>
);

/** What an entry changed, in a few words. */
function told(entry: Entry): string {
  const before = words(entry.before);
  const after = words(entry.after);
  return before && after && before !== after ? `${before} → ${after}` : after || before;
}

function words(value: unknown): string {
  if (value === null || value === undefined) return "";
  if (typeof value !== "object") return String(value);
  const setup = value as Record<string, unknown>;
  if (typeof setup.version === "string" && Object.keys(setup).length <= 4 && !("review" in setup)) return setup.version;
  const shares = (setup.shares as { of?: Record<string, number> } | undefined)?.of;
  if (shares)
    return Object.entries(shares)
      .map(([name, share]) => `${name} ${share} %`)
      .join(", ");
  return Object.entries(setup)
    .filter(([, one]) => one !== null && typeof one !== "object")
    .map(([key, one]) => `${key} ${typeof one === "string" && one.length === 64 ? one.slice(0, 12) : String(one)}`)
    .join(", ");
}
