// Day or night: the system's choice until a person makes one.
import { useSyncExternalStore } from "react";

type Theme = "light" | "dark";
const KEY = "lamppost-theme";
const system = window.matchMedia("(prefers-color-scheme: dark)");
const listeners = new Set<() => void>();

function current(): Theme {
  const kept = localStorage.getItem(KEY);
  return kept === "light" || kept === "dark" ? kept : system.matches ? "dark" : "light";
}

function apply(): void {
  document.documentElement.dataset.theme = current();
  for (const listener of listeners) listener();
}

export function startTheme(): void {
  apply();
  system.addEventListener("change", apply);
}

export function toggleTheme(): void {
  localStorage.setItem(KEY, current() === "dark" ? "light" : "dark");
  apply();
}

export const useTheme = (): Theme =>
  useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, current);
