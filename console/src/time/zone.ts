// The zone in which all times of the console are shown: the reader's own, or UTC.
import { useSyncExternalStore } from "react";

export type Zone = "local" | "UTC";

const KEY = "zone";
const listeners = new Set<() => void>();
let zone: Zone = read();

function read(): Zone {
  try {
    return localStorage.getItem(KEY) === "UTC" ? "UTC" : "local";
  } catch {
    return "local";
  }
}

/** For `timeZone` of date formats; undefined is the reader's own. */
export const timeZone = (): string | undefined => (zone === "UTC" ? "UTC" : undefined);

export function setZone(next: Zone): void {
  if (next === zone) return;
  zone = next;
  try {
    localStorage.setItem(KEY, next);
  } catch {
    // a browser that keeps nothing: the zone lasts as long as the page
  }
  listeners.forEach((listener) => listener());
}

export const useZone = (): Zone =>
  useSyncExternalStore(
    (listener) => {
      listeners.add(listener);
      return () => listeners.delete(listener);
    },
    () => zone,
  );
