// What was run in this browser: newest first, the same text once.
export interface Past {
  text: string;
  graph: string | null;
  at: number;
  rows: number | null;
  failed: string | null;
  us: number | null;
  pinned?: boolean;
}

const MOST = 300;

export function past(): Past[] {
  try {
    return JSON.parse(localStorage.getItem("history") ?? "[]") as Past[];
  } catch {
    return [];
  }
}

function keep(all: Past[]): void {
  try {
    localStorage.setItem("history", JSON.stringify(all));
  } catch {
    localStorage.removeItem("history");
  }
}

export function remember(run: Past): void {
  const all = past();
  const same = all.find((p) => p.text === run.text && p.graph === run.graph);
  const others = all.filter((p) => p !== same);
  const pinned = others.filter((p) => p.pinned);
  const rest = others.filter((p) => !p.pinned).slice(0, MOST - pinned.length);
  keep([{ ...run, pinned: same?.pinned ?? false }, ...pinned, ...rest].sort((a, b) => b.at - a.at));
}

export function pin(run: Past): void {
  keep(past().map((p) => (p.text === run.text && p.graph === run.graph ? { ...p, pinned: !p.pinned } : p)));
}

export function forget(run: Past): void {
  keep(past().filter((p) => !(p.text === run.text && p.graph === run.graph)));
}
