// Which rows of a table are drawn: all of a short one, of a long one those in sight.
import { useVirtualizer } from "@tanstack/react-virtual";
import type { RefObject } from "react";

const WHOLE_ROWS = 120;
const ROW_PX = 33;
const HEAD_PX = 32;
const OVERSCAN = 12;

type VisibleRows = {
  inParts: boolean;
  /** Pixels of the rows above and below those that are drawn. */
  before: number;
  after: number;
  items: number[];
  measure: ((element: HTMLElement | null) => void) | undefined;
  scrollTo: (index: number) => void;
};

/** keyOf : the key of the row at an index, in their order. */
export function useVisibleRows(scroller: RefObject<HTMLDivElement | null>, count: number, keyOf: (index: number) => string): VisibleRows {
  const inParts = count > WHOLE_ROWS;
  // the virtualizer tells by rendering again; its functions are read in this render only
  // eslint-disable-next-line react-hooks/incompatible-library
  const virtual = useVirtualizer({
    count,
    enabled: inParts,
    getScrollElement: () => scroller.current,
    estimateSize: () => ROW_PX,
    getItemKey: keyOf,
    overscan: OVERSCAN,
    scrollMargin: HEAD_PX,
    scrollPaddingStart: HEAD_PX,
  });
  if (!inParts)
    return {
      inParts,
      before: 0,
      after: 0,
      items: Array.from({ length: count }, (_, index) => index),
      measure: undefined,
      scrollTo: () => undefined,
    };
  const items = virtual.getVirtualItems();
  const first = items[0];
  const last = items[items.length - 1];
  return {
    inParts,
    before: first ? first.start - HEAD_PX : 0,
    after: last ? virtual.getTotalSize() - (last.end - HEAD_PX) : 0,
    items: items.map((item) => item.index),
    measure: virtual.measureElement,
    scrollTo: (index) => virtual.scrollToIndex(index),
  };
}
