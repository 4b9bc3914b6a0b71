// JSON without loss: whole numbers beyond what a double holds stay what they are.
export type Json = null | boolean | number | bigint | string | Json[] | { [key: string]: Json };

interface Source {
  source?: string;
}

type ExactReviver = (key: string, value: unknown, context?: Source) => unknown;

const exact: ExactReviver = (_, value, context) => {
  if (typeof value !== "number" || Number.isSafeInteger(value)) return value;
  const source = context?.source;
  return source !== undefined && /^-?\d+$/.test(source) ? BigInt(source) : value;
};

/** Whether the browser says how a number was written, and writes one as it is told. */
let told = false;
JSON.parse("1", ((_: string, value: unknown, context?: Source) => {
  told = context?.source === "1";
  return value;
}) as (key: string, value: unknown) => unknown);
const raw = (JSON as unknown as { rawJSON?: (text: string) => unknown }).rawJSON;

/** Stands before a number that is written as a text on the way. No text of the service begins so. */
const MARK = "\u0001number ";

/** Long whole numbers outside of texts as marked texts. */
function marked(text: string): string {
  return text.replace(/"(?:[^"\\]|\\.)*"|-?\d{16,}(?![\d.eE])/g, (part) => (part.startsWith('"') ? part : JSON.stringify(MARK + part)));
}

const unmarked: ExactReviver = (_, value) => {
  if (typeof value !== "string" || !value.startsWith(MARK)) return value;
  const whole = BigInt(value.slice(MARK.length));
  return Number.isSafeInteger(Number(whole)) ? Number(whole) : whole;
};

export function parseExact(text: string): unknown {
  // Looking at each value takes time: only where there may be such a number.
  if (!/\d{16}/.test(text)) return JSON.parse(text);
  const reviver = (told ? exact : unmarked) as (key: string, value: unknown) => unknown;
  return JSON.parse(told ? text : marked(text), reviver);
}

export function writeExact(value: Json, indent?: number): string {
  const plain = (_: string, v: unknown) => (typeof v === "bigint" ? (raw ? raw(String(v)) : MARK + String(v)) : v);
  const text = JSON.stringify(value, plain, indent);
  return raw ? text : text.replaceAll(new RegExp(`"${JSON.stringify(MARK).slice(1, -1).replaceAll("\\", "\\\\")}(-?\\d+)"`, "g"), "$1");
}
