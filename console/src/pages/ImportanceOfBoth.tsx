// What two versions look at, field by field.
import type { VersionPage } from "../api/client";
import { Bar } from "../parts/Bar";
import { percent } from "../words";

const SHOWN = 8;

export function ImportanceOfBoth({ before, after }: { before: VersionPage; after: VersionPage }) {
  const [old, now] = [before, after].map(
    (version) => new Map(version.insight?.importance.map((one) => [one.field, Math.max(0, one.worse.value)])),
  ) as [Map<string, number>, Map<string, number>];
  const larger = (field: string): number => Math.max(old.get(field) ?? 0, now.get(field) ?? 0);
  const fields = [...new Set([...now.keys(), ...old.keys()])].sort((one, other) => larger(other) - larger(one)).slice(0, SHOWN);
  const most = Math.max(...fields.map(larger), 1e-9);
  const side = (name: string, tone: "held" | "live", field: string, value: number | undefined) => (
    <div className="flex items-center gap-3">
      <Bar part={(value ?? 0) / most} label={`${field} for ${name}`} tone={tone} className="grow" />
      <span className="w-14 text-right text-small tabular-nums">{value === undefined ? "no field" : percent(value)}</span>
    </div>
  );
  return (
    <table className="figures w-full" aria-label="importance of fields for both">
      <tbody>
        {fields.map((field) => (
          <tr key={field}>
            <th scope="row" className="font-mono font-normal whitespace-nowrap">
              {field}
            </th>
            <td className="w-[60%]">
              {side(before.name, "held", field, old.get(field))}
              {side(after.name, "live", field, now.get(field))}
            </td>
          </tr>
        ))}
      </tbody>
    </table>
  );
}
