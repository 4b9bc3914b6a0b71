// Help where one types: what a word is when the pointer rests on it, and the parameters of the call that the cursor is in.
import { type EditorState, StateField } from "@codemirror/state";
import { type Tooltip, hoverTooltip, showTooltip } from "@codemirror/view";
import type { Measure, Names } from "./api";
import { CALLED, HELP, type Help } from "./functions";
import { say } from "./words";

/** More text before the cursor than any call has. */
const REACH = 600;

function of(word: string, names: Names | undefined, measures: Measure[]): Help | null {
  const help = HELP.get(word.toUpperCase());
  if (help) return help;
  const measure = measures.find((m) => m.name.toLowerCase() === word.toLowerCase());
  if (measure) return { signature: measure.signature, text: measure.description };
  const properties = names?.properties_of?.[word];
  if (names?.node_labels.includes(word)) return { signature: `(:${word})`, text: properties ? say("A label of nodes: {{properties}}.", { properties: properties.join(", ") }) : say("A label of nodes.") };
  if (names?.edge_labels.includes(word)) return { signature: `-[:${word}]->`, text: properties && properties.length > 0 ? say("A label of edges: {{properties}}.", { properties: properties.join(", ") }) : say("A label of edges.") };
  return null;
}

function card(help: Help): HTMLElement {
  const dom = document.createElement("div");
  dom.className = "help-tip";
  const signature = document.createElement("code");
  signature.textContent = help.signature;
  const text = document.createElement("div");
  text.textContent = say(help.text);
  dom.append(signature, text);
  return dom;
}

export function hoverHelp(names: () => Names | undefined, measures: () => Measure[]) {
  return hoverTooltip((view, at) => {
    const line = view.state.doc.lineAt(at);
    const before = /\w*$/.exec(line.text.slice(0, at - line.from))?.[0] ?? "";
    const after = /^\w*/.exec(line.text.slice(at - line.from))?.[0] ?? "";
    const help = of(before + after, names(), measures());
    if (help === null) return null;
    return { pos: at - before.length, end: at + after.length, above: true, create: () => ({ dom: card(help) }) };
  });
}

/** The innermost call that is open before a place: its name, and where that begins. */
export function openCall(text: string): { name: string; at: number } | null {
  let depth = 0;
  let quoted = false;
  for (let i = text.length - 1; i >= 0; i--) {
    const c = text[i];
    if (c === "'") quoted = !quoted;
    if (quoted) continue;
    if (c === ")" || c === "]" || c === "}") depth++;
    else if (c === "(" || c === "[" || c === "{") {
      if (depth > 0) depth--;
      else {
        const name = c === "(" ? /([A-Za-z_]\w*)\s*$/.exec(text.slice(0, i)) : null;
        if (name?.[1]) return { name: name[1], at: name.index };
        if (c !== "{") return null;
      }
    }
  }
  return null;
}

function tip(state: EditorState, measures: Measure[]): Tooltip | null {
  const { head, empty } = state.selection.main;
  if (!empty) return null;
  const from = Math.max(0, head - REACH);
  const call = openCall(state.sliceDoc(from, head));
  if (call === null) return null;
  const measure = measures.find((m) => m.name.toLowerCase() === call.name.toLowerCase());
  const help = measure ? { signature: measure.signature, text: measure.description } : CALLED.get(call.name.toUpperCase());
  return help ? { pos: from + call.at, above: true, create: () => ({ dom: card(help) }) } : null;
}

export function signatureHelp(measures: () => Measure[]) {
  return StateField.define<Tooltip | null>({
    create: () => null,
    // Only while something is typed: a tip that stays in the way is worse than none.
    update: (before, transaction) => {
      if (transaction.docChanged) return transaction.isUserEvent("input") || transaction.isUserEvent("delete") ? tip(transaction.state, measures()) : null;
      return transaction.selection ? (before && tip(transaction.state, measures())) : before;
    },
    provide: (field) => showTooltip.from(field),
  });
}
