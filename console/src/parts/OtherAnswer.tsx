import type { UseMutationResult } from "@tanstack/react-query";
import type { VersionPrediction } from "../api/client";
import { ms, show } from "../words";
import { Card, Mono, Trouble } from "./basics";

type Props = { name: string; asked: UseMutationResult<VersionPrediction, Error, string>; live?: Record<string, unknown>[] };

/** What another version says to the same rows, held against the one in service: slate-blue beside amber. */
export function OtherAnswer({ name, asked, live }: Props) {
  const rows = asked.data?.answers ?? [];
  const flips = live ? rows.filter((row, at) => JSON.stringify(first(row)) !== JSON.stringify(first(live[at] ?? {}))).length : 0;
  return (
    <Card
      title={`What ${name} says`}
      aside={asked.data && <span className="text-small text-faint">{ms(asked.data.took_ms)} ms, not recorded</span>}
    >
      {asked.isPending ? (
        <p className="text-soft">It is opened and proven first …</p>
      ) : asked.error ? (
        <Trouble error={asked.error} />
      ) : !asked.data ? (
        <p className="text-soft">Asked together with the endpoint, the next time you press Ask.</p>
      ) : rows.length === 1 && live?.length === 1 ? (
        <Side by={rows[0]!} live={live[0]!} />
      ) : (
        <p>
          <strong className={`font-semibold ${flips ? "text-slate" : ""}`}>
            {flips ? `${flips} of ${rows.length} rows get another answer.` : `The same answer to all ${rows.length} rows.`}
          </strong>
        </p>
      )}
    </Card>
  );
}

const first = (row: Record<string, unknown>): unknown => Object.values(row)[0];

/** Every answer of both, one above the other; scores name by name. */
function Side({ by, live }: { by: Record<string, unknown>; live: Record<string, unknown> }) {
  const rows = [...new Set([...flat(live).keys(), ...flat(by).keys()])].map(
    (key) => [key, flat(live).get(key), flat(by).get(key)] as const,
  );
  return (
    <table className="figures w-full">
      <thead>
        <tr>
          <th />
          <th className="num">in service</th>
          <th className="num">this one</th>
        </tr>
      </thead>
      <tbody>
        {rows.map(([key, one, other]) => (
          <tr key={key}>
            <th scope="row">
              <Mono>{key}</Mono>
            </th>
            <td className="num text-amber">{one === undefined ? "–" : show(one)}</td>
            <td className={`num ${JSON.stringify(one) === JSON.stringify(other) ? "text-faint" : "font-semibold text-slate"}`}>
              {other === undefined ? "–" : JSON.stringify(one) === JSON.stringify(other) ? "the same" : show(other)}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}

function flat(answer: Record<string, unknown>): Map<string, unknown> {
  return new Map(
    Object.entries(answer).flatMap(([key, value]): [string, unknown][] =>
      typeof value === "object" && value !== null && !Array.isArray(value)
        ? Object.entries(value).map(([name, one]): [string, unknown] => [
            `${key}.${name}`,
            typeof one === "number" ? Number(one.toPrecision(4)) : one,
          ])
        : [[key, value]],
    ),
  );
}
