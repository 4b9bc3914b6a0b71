// State that outlives its page: going to another one and back loses nothing, and what was asked for before goes on
// meanwhile. With `across` it outlives a reload as well, for this tab alone.
import { useCallback, useSyncExternalStore } from "react";
import { read, write } from "./kept";

const held = new Map<string, unknown>();
const listeners = new Map<string, Set<() => void>>();

/** What is held under the key is as it was at first. */
export function forget(key: string): void {
  held.delete(key);
  write(`held ${key}`, null);
}

export type Next<T> = T | ((now: T) => T);

export function useHeld<T>(key: string, initial: T, across: "pages" | "reloads" = "pages"): [T, (next: Next<T>) => void] {
  if (!held.has(key)) held.set(key, across === "reloads" ? read(`held ${key}`, initial) : initial);
  const value = useSyncExternalStore(
    useCallback((listener) => {
      const own = listeners.get(key) ?? new Set();
      listeners.set(key, own.add(listener));
      return () => own.delete(listener);
    }, [key]),
    () => held.get(key) as T,
  );
  const set = useCallback((next: Next<T>) => {
    const now = held.get(key) as T;
    const after = typeof next === "function" ? (next as (now: T) => T)(now) : next;
    held.set(key, after);
    if (across === "reloads") write(`held ${key}`, after);
    listeners.get(key)?.forEach((listener) => listener());
  }, [key, across]);
  return [value, set];
}
