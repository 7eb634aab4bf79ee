// The time that a page looks at. It stands in the address, so that a link shows what its sender saw, and goes along from view to view.
import { useMemo } from "react";
import { useSearchParams } from "react-router";
import { fixedOf, SPAN_HOURS, type SpanName, spanOf, spanUntil, type TimeSpan, withFixed } from "./spans";

export type PageSpan = {
  names: readonly SpanName[];
  name: SpanName;
  hours: number;
  /** The part that is held fast; null while the page is live and ends now. */
  fixed: TimeSpan | null;
  setName: (name: SpanName) => void;
  setFixed: (fixed: TimeSpan | null) => void;
  /** Hold what is shown now fast. */
  hold: () => void;
};

/** names : spans to choose from; none where the page has a span of its own. */
export function usePageSpan(names: readonly SpanName[], usual: SpanName): PageSpan {
  const [params, setParams] = useSearchParams();
  const name = spanOf(params, names, usual);
  const { from, to } = { from: params.get("from"), to: params.get("to") };
  const fixed = useMemo(() => fixedOf(new URLSearchParams({ from: from ?? "", to: to ?? "" })), [from, to]);
  return {
    names,
    name,
    hours: SPAN_HOURS[name],
    fixed,
    setName: (next) =>
      setParams((before) => {
        const after = withFixed(before, null);
        if (next === usual) after.delete("span");
        else after.set("span", next);
        return after;
      }),
    setFixed: (next) => setParams((before) => withFixed(before, next)),
    hold: () => setParams((before) => withFixed(before, spanUntil(name, Date.now()))),
  };
}
