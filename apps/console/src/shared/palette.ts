// A label's colour: one of our own palette, readable by colour-blind people on light and dark, chosen
// by the label's name.
export const PALETTE = ["#1d6f8c", "#b5651d", "#6a4c93", "#3f7d3a", "#a63d57", "#8a7410", "#34577a", "#b04a8f", "#2f7f72", "#7a5230"];

function place(label: string): number {
  let hash = 2166136261;
  for (const character of label) {
    hash = Math.imul(hash ^ (character.codePointAt(0) ?? 0), 16777619);
  }
  return (hash >>> 0) % PALETTE.length;
}

/** Colours for labels shown together: each by its name, the next free one where two would be alike. */
export function labelColours(labels: string[]): Map<string, string> {
  const taken = new Set<number>();
  const colours = new Map<string, string>();
  for (const label of [...labels].sort()) {
    let at = place(label);
    for (let tries = 0; taken.has(at) && tries < PALETTE.length; tries++) at = (at + 1) % PALETTE.length;
    taken.add(at);
    colours.set(label, PALETTE[at] ?? "#34577a");
  }
  return colours;
}
