// What a new model would change in a graph, and applying it.
import { useState } from "react";
import Alert from "react-bootstrap/Alert";
import Button from "react-bootstrap/Button";
import Form from "react-bootstrap/Form";
import { type ModelDiff, post, queryText } from "../shared/api";
import { Findings } from "../shared/Findings";
import { figure, say } from "../shared/words";

/** Everything that would be lost, as JSON Lines, one file. */
async function save(diff: ModelDiff) {
  const parts: string[] = [];
  for (const difference of diff.differences) {
    if (difference.query !== null) parts.push(await queryText(diff.graph, difference.query, "application/x-ndjson"));
  }
  const link = document.createElement("a");
  link.href = URL.createObjectURL(new Blob(parts, { type: "application/x-ndjson" }));
  link.download = `${diff.graph}-version-${diff.version}-lost.jsonl`;
  link.click();
  URL.revokeObjectURL(link.href);
}

export function ModelChange({ diff, text, onApplied, attempt }: { diff: ModelDiff; text: string; onApplied: (version: number) => void; attempt: (work: () => Promise<void>) => Promise<void> }) {
  const [meant, setMeant] = useState(false);
  const apply = () => attempt(async () => {
    const applied = await post<{ version: number }>(`/v1/graphs/${encodeURIComponent(diff.graph)}/model/apply`, { model: text, lose_data: meant, version: diff.version });
    onApplied(applied.version);
  });
  const nothing = diff.differences.length === 0 && diff.obstacles.length === 0;
  return (
    <section aria-label={say("Difference")} role="status">
      {nothing && <p className="status">{say("Nothing changes: the graph has this model.")}</p>}
      {diff.differences.length > 0 && (
        <>
          <h3>{say("What changes")}</h3>
          <ul className="findings">
            {diff.differences.map((d, i) => (
              <li key={i}>{d.message}{d.lost > 0 && <strong className="lost"> {d.property === null ? say("{{n}} elements lost", { count: d.lost }) : say("{{n}} values lost", { count: d.lost })}</strong>}</li>
            ))}
          </ul>
        </>
      )}
      <Findings title={say("What stands in the way")} findings={diff.obstacles} graph={diff.graph} />
      {!nothing && diff.obstacles.length === 0 && (
        <Alert variant={diff.lost > 0 ? "warning" : "secondary"} className="apply">
          {diff.lost > 0 && (
            <div className="tools">
              <Form.Check id="meant" label={say("{{lost}} elements and values are lost, and that is meant", { lost: figure(diff.lost) })} checked={meant} onChange={(e) => setMeant(e.target.checked)} />
              <Button size="sm" variant="outline-secondary" id="save-lost" onClick={() => void attempt(() => save(diff))}>{say("Save them first")}</Button>
            </div>
          )}
          <Button size="sm" id="apply" disabled={diff.lost > 0 && !meant} onClick={() => void apply()}>{say("Apply to {{graph}}", { graph: diff.graph })}</Button>
          <span className="faint"> {diff.changes_elements ? say("The elements change with it, all at once or not at all.") : say("No element changes.")}</span>
        </Alert>
      )}
    </section>
  );
}
