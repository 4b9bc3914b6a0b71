// The query editor: highlighting, completion, errors underlined where they are.
import { autocompletion, completionKeymap } from "@codemirror/autocomplete";
import { defaultKeymap, history, historyKeymap, indentWithTab } from "@codemirror/commands";
import { bracketMatching } from "@codemirror/language";
import { type Diagnostic, lintGutter, setDiagnostics } from "@codemirror/lint";
import { EditorState, Prec } from "@codemirror/state";
import { EditorView, drawSelection, highlightActiveLine, keymap, lineNumbers, placeholder } from "@codemirror/view";
import { useEffect, useRef } from "react";
import type { Measure, Names, QueryError } from "./api";
import { hoverHelp, signatureHelp } from "./helpTips";
import { colours, completion, gql } from "./language";

interface Properties {
  text: string;
  errors: QueryError[];
  names: Names | undefined;
  measures?: Measure[];
  onChange: (text: string) => void;
  onRun: (text: string) => void;
  onSelect?: (text: string) => void;
  label?: string;
  /** It does not take the keyboard by itself. */
  waits?: boolean;
}

/** The service counts bytes, the editor UTF-16 units. */
function place(text: string, bytes: number): number {
  const encoded = new TextEncoder().encode(text);
  return new TextDecoder().decode(encoded.slice(0, bytes)).length;
}

export function Editor({ text, errors, names, measures, onChange, onRun, onSelect, label, waits }: Properties) {
  const host = useRef<HTMLDivElement>(null);
  const labelled = useRef(label ?? "Query");
  const quiet = useRef(waits ?? false);
  const view = useRef<EditorView | null>(null);
  const latest = useRef({ names, measures, onChange, onRun, onSelect, text });
  useEffect(() => {
    latest.current = { names, measures, onChange, onRun, onSelect, text };
  });

  useEffect(() => {
    if (!host.current) return;
    const run = (view: EditorView): boolean => {
      const selected = view.state.selection.main;
      const text = selected.empty ? view.state.doc.toString() : view.state.sliceDoc(selected.from, selected.to);
      latest.current.onRun(text);
      return true;
    };
    const editor = new EditorView({
      parent: host.current,
      state: EditorState.create({
        doc: latest.current.text,
        extensions: [
          Prec.highest(keymap.of([{ key: "Mod-Enter", run }])),
          lineNumbers(),
          history(),
          drawSelection(),
          highlightActiveLine(),
          bracketMatching(),
          lintGutter(),
          // Nothing is taken that was not chosen: Enter is a new line until an arrow key has chosen.
          autocompletion({ icons: false, selectOnOpen: false, override: [completion(() => latest.current.names, () => latest.current.measures ?? [])] }),
          hoverHelp(() => latest.current.names, () => latest.current.measures ?? []),
          signatureHelp(() => latest.current.measures ?? []),
          keymap.of([...completionKeymap, ...historyKeymap, indentWithTab, ...defaultKeymap]),
          gql,
          colours,
          placeholder("MATCH (site:Site)-[:PIPE]->(next) RETURN site, next"),
          EditorView.lineWrapping,
          EditorView.contentAttributes.of({ "aria-label": labelled.current, spellcheck: "false" }),
          EditorView.updateListener.of((update) => {
            if (update.docChanged) latest.current.onChange(update.state.doc.toString());
            if (update.selectionSet || update.docChanged) {
              const { from, to } = update.state.selection.main;
              latest.current.onSelect?.(update.state.sliceDoc(from, to));
            }
          }),
        ],
      }),
    });
    view.current = editor;
    // What scrolls can be reached by keyboard.
    editor.scrollDOM.tabIndex = 0;
    if (!quiet.current) editor.focus();
    return () => editor.destroy();
  }, []);

  useEffect(() => {
    const editor = view.current;
    if (editor && editor.state.doc.toString() !== text) {
      editor.dispatch({ changes: { from: 0, to: editor.state.doc.length, insert: text } });
    }
  }, [text]);

  useEffect(() => {
    const editor = view.current;
    if (!editor) return;
    const now = editor.state.doc.toString();
    const found: Diagnostic[] = errors
      .filter((e) => e.start !== undefined)
      .map((e) => {
        const from = Math.min(place(now, e.start ?? 0), now.length);
        const to = Math.min(Math.max(place(now, e.end ?? 0), from + 1), now.length);
        return { from: Math.min(from, to), to, severity: e.severity, message: e.hint ? `${e.message}\n${e.hint}` : e.message };
      });
    editor.dispatch(setDiagnostics(editor.state, found));
  }, [errors]);

  return <div className="editor" ref={host} />;
}
