// Values and amounts of explanations in a few characters.
import { short, show } from "../words";
import type { Explanation } from "./queries";

/** The main figure of an answer, and whether it is about a label, from 0 to 1. */
export type MainFigure = { figure: string; is_score: boolean };

const LONGEST = 200;

/** A picture, and what is as long as one, is not written out. */
export const valueText = (value: unknown): string =>
  value === null || value === undefined ? "missing" : typeof value === "string" && value.length > LONGEST ? "…" : show(value);

export const figureText = (of: MainFigure, value: number | null): string =>
  value === null ? "failed" : of.is_score ? `${(100 * value).toFixed(0)} %` : short(value);

export function amountText(of: MainFigure, amount: number | null): string {
  if (amount === null) return "not known";
  const size = of.is_score ? (100 * Math.abs(amount)).toFixed(1) : short(Math.abs(amount));
  return `${amount < 0 ? "−" : "+"}${size}`;
}

/** What the main figure is of, in words. */
export const figureName = (of: MainFigure): string => (of.is_score ? `score of ${of.figure.split(/\.| is /).pop()}` : of.figure);

const STOPPED: Record<Explanation["stopped"], string> = {
  exact: "every order of the fields was asked",
  certain: "the order of the first fields is certain",
  budget: "the order of the first fields is not certain",
  time: "the time was used up before the order was certain",
  "not asked": "",
};
export const stoppedText = (stopped: Explanation["stopped"]): string => STOPPED[stopped];

const SEARCHED = {
  found: "",
  none: "No change of one to three fields that training has seen gives another answer.",
  budget: "No change that gives another answer was found among those that were tried.",
  time: "No change that gives another answer was found in the time.",
} as const;
export const searchedText = (searched: keyof typeof SEARCHED): string => SEARCHED[searched];
