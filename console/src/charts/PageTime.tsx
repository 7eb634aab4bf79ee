// What the charts of a page share: the moment that is read, and the part of the time that is looked at.
import { createContext, type ReactNode, useContext, useMemo, useState } from "react";
import type { TimeSpan } from "../time/spans";

type Shared = {
  moment: number | null;
  readMoment: (at: number | null) => void;
  zoom: TimeSpan | null;
  setZoom: (span: TimeSpan | null) => void;
};

const Context = createContext<Shared>({ moment: null, readMoment: () => undefined, zoom: null, setZoom: () => undefined });
export const usePageTime = (): Shared => useContext(Context);

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
