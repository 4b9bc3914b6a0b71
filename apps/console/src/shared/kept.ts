// State that outlives its page and a reload, for this tab alone: two tabs do not write over each other.
import { useEffect, useState } from "react";

export function read<T>(key: string, otherwise: T): T {
  try {
    const text = sessionStorage.getItem(key);
    return text === null ? otherwise : (JSON.parse(text) as T);
  } catch {
    return otherwise;
  }
}

export function write(key: string, value: unknown): void {
  try {
    sessionStorage.setItem(key, JSON.stringify(value));
  } catch {
    // Full: the state lasts as long as the page.
  }
}

export function useKept<T>(key: string, initial: T): [T, (value: T) => void] {
  const [value, setValue] = useState<T>(() => read(key, initial));
  useEffect(() => write(key, value), [key, value]);
  return [value, setValue];
}
