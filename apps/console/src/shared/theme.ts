// Light and dark: the attribute on the page, the choice in this browser.
import { useSyncExternalStore } from "react";

const listeners = new Set<() => void>();

export function isDark(): boolean {
  return document.documentElement.dataset["bsTheme"] === "dark";
}

export function setDark(dark: boolean): void {
  document.documentElement.dataset["bsTheme"] = dark ? "dark" : "light";
  localStorage.setItem("theme", dark ? "dark" : "light");
  listeners.forEach((l) => l());
}

export function initialTheme(): void {
  const kept = localStorage.getItem("theme") ?? (matchMedia("(prefers-color-scheme: dark)").matches ? "dark" : "light");
  document.documentElement.dataset["bsTheme"] = kept;
}

export function useDark(): boolean {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, isDark);
}
