// A cell of Markdown: read until it is chosen, then written. What stands in it is never taken for markup of the page.
import { useEffect, useRef } from "react";
import Markdown from "react-markdown";
import { say } from "../shared/words";

export function TextCell({ text, editing, onEdit, onChange }: { text: string; editing: boolean; onEdit: (on: boolean) => void; onChange: (text: string) => void }) {
  const area = useRef<HTMLTextAreaElement>(null);
  useEffect(() => {
    if (editing) area.current?.focus();
  }, [editing]);
  if (!editing) {
    return (
      <div className="cell-read" title={say("Choose it to write")} onClick={() => onEdit(true)}>
        {text.trim() === "" ? <p className="faint">{say("An empty text: choose it to write.")}</p> : <Markdown>{text}</Markdown>}
      </div>
    );
  }
  return (
    <textarea
      ref={area} className="form-control cell-write" aria-label={say("Text, as Markdown")} rows={Math.max(4, text.split("\n").length + 1)} value={text}
      onChange={(e) => onChange(e.target.value)} onBlur={() => onEdit(false)}
      onKeyDown={(e) => {
        if (e.key === "Escape" || (e.key === "Enter" && (e.ctrlKey || e.metaKey))) onEdit(false);
      }}
    />
  );
}
