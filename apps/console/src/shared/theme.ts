// Light and dark: the attribute on the page, the choice in this browser. Without one the page goes with the system.
import { useSyncExternalStore } from "react";

export type Theme = "light" | "dark" | "system";

const listeners = new Set<() => void>();
const system = matchMedia("(prefers-color-scheme: dark)");

function chosen(): Theme {
  const kept = localStorage.getItem("theme");
  return kept === "light" || kept === "dark" ? kept : "system";
}

function show(): void {
  const theme = chosen();
  document.documentElement.dataset["bsTheme"] = theme === "system" ? (system.matches ? "dark" : "light") : theme;
  listeners.forEach((l) => l());
}

export function isDark(): boolean {
  return document.documentElement.dataset["bsTheme"] === "dark";
}

export function setTheme(theme: Theme): void {
  if (theme === "system") localStorage.removeItem("theme");
  else localStorage.setItem("theme", theme);
  show();
}

export function setDark(dark: boolean): void {
  setTheme(dark ? "dark" : "light");
}

export function initialTheme(): void {
  show();
  system.addEventListener("change", show);
}

function listen(listener: () => void): () => void {
  listeners.add(listener);
  return () => listeners.delete(listener);
}

export function useDark(): boolean {
  return useSyncExternalStore(listen, isDark);
}

export function useTheme(): Theme {
  return useSyncExternalStore(listen, chosen);
}
