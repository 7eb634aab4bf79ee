// What each field contributed: bars from a middle line, to the right for what raised the figure.
import { Tip } from "../parts/Tip";
import type { Contribution } from "./queries";
import { amountText, type MainFigure, valueText } from "./wording";

const SHOWN = 12;

type Props = {
  figure: MainFigure;
  contributions: Contribution[];
  chosen: string | null;
  onChoose: (field: string) => void;
};

export function ContributionTable({ figure, contributions, chosen, onChoose }: Props) {
  const most = Math.max(...contributions.map((one) => Math.abs(one.amount ?? 0)), 1e-12);
  const shown = contributions.slice(0, SHOWN);
  const rest = contributions.length - shown.length;
  return (
    <>
      <table className="figures w-full" aria-label="contributions">
        <thead>
          <tr>
            <th scope="col">field</th>
            <th scope="col">value</th>
            <th scope="col" className="w-[40%]">
              <span className="flex justify-between">
                <span>lowered it</span>
                <span>raised it</span>
              </span>
            </th>
            <th scope="col" className="num">
              by
            </th>
          </tr>
        </thead>
        <tbody>
          {shown.map((one) => (
            <tr key={one.fields.join()} className={one.fields.includes(chosen ?? "") ? "bg-amber-wash" : undefined}>
              <th scope="row" className="font-mono font-normal whitespace-nowrap">
                <button type="button" className="max-w-44 truncate text-left hover:underline" onClick={() => onChoose(one.fields[0]!)}>
                  {one.fields.join(" + ")}
                </button>
              </th>
              <td className="max-w-32 truncate text-soft">{one.fields.map((name) => valueText(one.values[name])).join(", ")}</td>
              <td>
                <Tip text={one.error === null ? null : `standard error ${amountText(figure, one.error).slice(1)}`}>
                  <span className="relative block h-3 rounded-small bg-sunk">
                    <span className="absolute inset-y-0 left-1/2 w-px bg-faint" />
                    <span
                      className={`absolute inset-y-0 ${(one.amount ?? 0) > 0 ? "left-1/2 rounded-r-small bg-amber-fill" : "right-1/2 rounded-l-small bg-slate-fill"}`}
                      style={{ width: `${(50 * Math.abs(one.amount ?? 0)) / most}%` }}
                    />
                  </span>
                </Tip>
              </td>
              <td className="num font-mono">{amountText(figure, one.amount)}</td>
            </tr>
          ))}
        </tbody>
      </table>
      {rest > 0 && <p className="mt-1 text-small text-faint">and {rest} more with smaller amounts</p>}
    </>
  );
}
