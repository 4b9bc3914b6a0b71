// A label's colour: one of our own palette, readable by colour-blind people on light and dark, chosen
// by the label's name.
const PALETTE = ["#1d6f8c", "#b5651d", "#6a4c93", "#3f7d3a", "#a63d57", "#8a7410", "#34577a", "#b04a8f", "#2f7f72", "#7a5230"];

export function labelColour(label: string): string {
  let hash = 2166136261;
  for (const character of label) {
    hash = Math.imul(hash ^ (character.codePointAt(0) ?? 0), 16777619);
  }
  return PALETTE[(hash >>> 0) % PALETTE.length] ?? "#34577a";
}
