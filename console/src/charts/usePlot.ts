// A uPlot in an element: made anew when its options change, its theme or its width; its data replaced when only that changed.
import { type RefObject, useEffect, useRef, useState } from "react";
import uPlot from "uplot";
import "uplot/dist/uPlot.min.css";
import { useTheme } from "../theme";
import { useZone } from "../time/zone";

/** options : made for a width in CSS pixels, anew whenever `key` changes. */
export function usePlot(
  box: RefObject<HTMLDivElement | null>,
  key: string,
  options: (width: number) => uPlot.Options,
  data: uPlot.AlignedData,
): RefObject<uPlot | null> {
  const plot = useRef<uPlot | null>(null);
  const latest = useRef({ options, data });
  useEffect(() => {
    latest.current = { options, data };
  });
  const theme = useTheme();
  const zone = useZone();
  const [width, setWidth] = useState(0);
  const [fonts, setFonts] = useState(false);
  useEffect(() => {
    if (!box.current) return;
    const observer = new ResizeObserver(([entry]) => entry && setWidth(Math.max(240, Math.floor(entry.contentRect.width))));
    observer.observe(box.current);
    void document.fonts.ready.then(() => setFonts(true));
    return () => observer.disconnect();
  }, [box]);
  useEffect(() => {
    if (!box.current || !width) return;
    const made = new uPlot(latest.current.options(width), latest.current.data, box.current);
    plot.current = made;
    return () => {
      plot.current = null;
      made.destroy();
    };
  }, [box, key, width, theme, zone, fonts]);
  useEffect(() => {
    if (plot.current && plot.current.data !== data) plot.current.setData(data);
  }, [data]);
  return plot;
}
