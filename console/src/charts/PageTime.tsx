// What the charts of a page share: the moment that is read, and the part of the time that is looked at.
import { createContext, type ReactNode, useContext, useMemo, useState } from "react";
import { useSearchParams } from "react-router";

export type TimeSpan = { since: number; until: number };
type Shared = {
  moment: number | null;
  readMoment: (at: number | null) => void;
  zoom: TimeSpan | null;
  setZoom: (span: TimeSpan | null) => void;
};

const Context = createContext<Shared>({ moment: null, readMoment: () => undefined, zoom: null, setZoom: () => undefined });
export const usePageTime = (): Shared => useContext(Context);

/** The zoom stands in the address (from, to), so that a link shows what its sender saw. */
export function useZoom(): [TimeSpan | null, (span: TimeSpan | null) => void] {
  const [params, setParams] = useSearchParams();
  const since = Date.parse(params.get("from") ?? "");
  const until = Date.parse(params.get("to") ?? "");
  const setZoom = (span: TimeSpan | null): void =>
    setParams((before) => {
      const after = new URLSearchParams(before);
      after.delete("from");
      after.delete("to");
      if (span) {
        after.set("from", new Date(span.since).toISOString());
        after.set("to", new Date(span.until).toISOString());
      }
      return after;
    });
  return [since < until ? { since, until } : null, setZoom];
}

/** Charts inside read the same moment, and a span that is brushed on one of them is shown by all. */
export function PageTime({
  zoom,
  setZoom,
  children,
}: {
  zoom?: TimeSpan | null;
  setZoom?: (span: TimeSpan | null) => void;
  children: ReactNode;
}) {
  const [moment, readMoment] = useState<number | null>(null);
  const shared = useMemo(
    () => ({ moment, readMoment, zoom: zoom ?? null, setZoom: setZoom ?? (() => undefined) }),
    [moment, zoom, setZoom],
  );
  return <Context.Provider value={shared}>{children}</Context.Provider>;
}
