// Settings of a sweep: which is the pick, and the limits as they stand in the page's address.
import type { components } from "../api/schema.js";

type Setting = components["schemas"]["SettingAnswer"];
type SweepDetail = components["schemas"]["SweepDetailAnswer"];

/** What a setting is among the others: the pick, its equal, the second, … ; nothing for most. */
export function roleOf(found: SweepDetail, setting: Setting): string {
  const { pick, second, unlimited, nearest, equals } = found.picked;
  if (setting.number === pick) return "pick";
  if (setting.number === nearest) return "nearest";
  if (equals.includes(setting.number)) return "equal";
  if (setting.number === second) return "second";
  return setting.number === unlimited ? "without limits" : "";
}

/** A limit of a figure among limits as text: its number in the unit that it is written with; null for none. */
export function limitOf(limits: string[], figure: string): number | null {
  const found = limits.find((text) => text.startsWith(`${figure}=`));
  const value = found ? Number.parseFloat(found.slice(figure.length + 1)) : Number.NaN;
  return Number.isFinite(value) ? value : null;
}

/** The limits with that of one figure replaced. value : null takes it away. */
export const withLimit = (limits: string[], figure: string, value: number | null, unit: string): string[] => [
  ...limits.filter((text) => !text.startsWith(`${figure}=`)),
  ...(value === null ? [] : [`${figure}=${Number(value.toPrecision(3))}${unit}`]),
];
