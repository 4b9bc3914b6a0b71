// What the pages say, in the language that was chosen: English texts are the keys, `words/de.json` has the German ones.
// Without a choice a browser's own language counts. What the service says (errors, findings, plans) is not translated.
import i18next from "i18next";
import { useSyncExternalStore } from "react";
import { initReactI18next } from "react-i18next";
import english from "../words/en.json";

export type Language = "en" | "de";

/** Each by its own name. */
export const LANGUAGES: [Language, string][] = [["en", "English"], ["de", "Deutsch"]];

const listeners = new Set<() => void>();

function chosen(): Language {
  const wanted = [localStorage.getItem("language"), ...navigator.languages].map((l) => l?.slice(0, 2));
  return wanted.find((l): l is Language => LANGUAGES.some(([known]) => known === l)) ?? "en";
}

export function language(): Language {
  return i18next.language === "de" ? "de" : "en";
}

/** As the browser writes numbers and dates, if that is in the language of the pages. */
function locale(): string {
  return navigator.languages.find((l) => l.startsWith(language())) ?? language();
}

async function show(wanted: Language): Promise<void> {
  if (wanted === "de" && !i18next.hasResourceBundle("de", "translation")) {
    i18next.addResourceBundle("de", "translation", (await import("../words/de.json")).default);
  }
  await i18next.changeLanguage(wanted);
  document.documentElement.lang = wanted;
  listeners.forEach((listener) => listener());
}

export async function initialLanguage(): Promise<void> {
  await i18next.use(initReactI18next).init({
    lng: "en", fallbackLng: false, keySeparator: false, nsSeparator: false, react: { useSuspense: false },
    resources: { en: { translation: english } }, interpolation: { escapeValue: false },
  });
  await show(chosen());
}

export async function setLanguage(wanted: Language): Promise<void> {
  localStorage.setItem("language", wanted);
  await show(wanted);
}

export function useLanguage(): Language {
  return useSyncExternalStore((listener) => {
    listeners.add(listener);
    return () => listeners.delete(listener);
  }, language);
}

/** The text in the language of the pages. `count` chooses between one and many, and is written as a figure. */
export function say(text: string, values: { [name: string]: string | number } = {}): string {
  const count = values["count"];
  return i18next.t(text, typeof count === "number" ? { ...values, n: figure(count) } : values);
}

export function figure(n: number, digits?: number): string {
  return n.toLocaleString(locale(), digits === undefined ? {} : { minimumFractionDigits: digits, maximumFractionDigits: digits });
}

export function timeOfDay(at: string | number): string {
  return new Date(at).toLocaleTimeString(locale());
}

/** A date with its time. */
export function moment(at: string | number): string {
  return new Date(at).toLocaleString(locale());
}
