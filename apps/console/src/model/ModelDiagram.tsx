// A model as a diagram: the service lays it out and draws it, here its boxes and lines can be chosen.
import { useEffect, useRef } from "react";
import type { Choice } from "./TypeForm";
import { say } from "../shared/words";

const places = (part: Element) => (part.getAttribute("data-places") ?? "").split(",").map(Number);

export function ModelDiagram({ picture, choice, onChoose }: { picture: string; choice: Choice | null; onChoose: (choice: Choice) => void }) {
  const host = useRef<HTMLDivElement>(null);
  useEffect(() => {
    for (const part of host.current?.querySelectorAll("[data-kind]") ?? []) {
      const chosen = choice !== null && part.getAttribute("data-kind") === choice.kind && places(part).includes(choice.place);
      part.classList.toggle("chosen", chosen);
    }
  }, [choice, picture]);
  const choose = (target: EventTarget) => {
    const part = target instanceof Element ? target.closest("[data-kind]") : null;
    const kind = part?.getAttribute("data-kind");
    if (!part || (kind !== "node" && kind !== "edge")) return;
    // Again on the same box or line: its next type.
    const all = places(part);
    const at = choice?.kind === kind ? all.indexOf(choice.place) : -1;
    onChoose({ kind, place: all[(at + 1) % all.length] ?? 0 });
  };
  // The types can be chosen from a list as well, which is the way for the keyboard.
  return <div className="model-picture" ref={host} tabIndex={0} role="region" aria-label={say("Diagram of the model")} onClick={(e) => choose(e.target)} dangerouslySetInnerHTML={{ __html: picture }} />;
}
