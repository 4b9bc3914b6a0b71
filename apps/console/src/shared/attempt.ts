// What a page does on request: it says what it is doing, and keeps the problem if it fails.
import { useEffect, useState } from "react";
import { Problem } from "./api";

export interface Attempts {
  busy: string | null;
  problem: Problem | null;
  setProblem: (problem: Problem | null) => void;
  attempt: (what: string, work: () => Promise<void>) => Promise<void>;
}

export function useAttempt(): Attempts {
  const [problem, setProblem] = useState<Problem | null>(null);
  const [busy, setBusy] = useState<string | null>(null);
  // Leaving while something is sent would lose it without a word.
  useEffect(() => {
    if (busy === null || busy === "") return undefined;
    const ask = (event: BeforeUnloadEvent) => event.preventDefault();
    window.addEventListener("beforeunload", ask);
    return () => window.removeEventListener("beforeunload", ask);
  }, [busy]);
  const attempt = async (what: string, work: () => Promise<void>) => {
    setBusy(what);
    setProblem(null);
    try {
      await work();
    } catch (error) {
      if (!(error instanceof Problem)) throw error;
      setProblem(error);
    } finally {
      setBusy(null);
    }
  };
  return { busy, problem, setProblem, attempt };
}
