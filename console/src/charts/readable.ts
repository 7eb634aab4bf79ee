// What makes a plot readable without a pointer: it takes the focus, arrow keys go through its readings, and each is spoken.
import type { HTMLAttributes, KeyboardEvent } from "react";
import { nextReading } from "./layout";

type Reading = {
  label: string;
  reading: string | undefined;
  hint: string;
  now: number;
  count: number;
  read: (place: number) => void;
  pick?: () => void;
};

/** Properties of the element that holds a plot. now : the reading shown, -1 for none. read : shows another one. pick : on Enter. */
export function readable({ label, reading, hint, now, count, read, pick }: Reading): HTMLAttributes<HTMLDivElement> {
  return {
    tabIndex: 0,
    role: "slider",
    "aria-label": label,
    "aria-valuemin": 0,
    "aria-valuemax": Math.max(0, count - 1),
    "aria-valuenow": Math.max(0, now),
    "aria-valuetext": reading ?? hint,
    onPointerLeave: () => read(-1),
    onKeyDown: (event: KeyboardEvent) => {
      if (event.key === "Enter") pick?.();
      const next = nextReading(event.key, now, count);
      if (next === undefined) return;
      event.preventDefault();
      read(next);
    },
  };
}
