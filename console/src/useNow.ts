import { useSyncExternalStore } from "react";

const STEP_MS = 10_000;
const subscribe = (listener: () => void): (() => void) => {
  const timer = setInterval(listener, STEP_MS);
  return () => clearInterval(timer);
};
const rounded = (): number => Math.floor(Date.now() / STEP_MS) * STEP_MS;

/** The present time in milliseconds, to ten seconds. */
export const useNow = (): number => useSyncExternalStore(subscribe, rounded);
