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

export function parseExact(text: string): unknown {
  // Looking at each value takes time: only where there may be such a number.
  return /\d{16}/.test(text) ? JSON.parse(text, exact as (key: string, value: unknown) => unknown) : JSON.parse(text);
}

export function writeExact(value: Json, indent?: number): string {
  const raw = (JSON as unknown as { rawJSON?: (text: string) => unknown }).rawJSON;
  return JSON.stringify(value, (_, v: unknown) => (typeof v === "bigint" ? (raw ? raw(String(v)) : String(v)) : v), indent);
}
