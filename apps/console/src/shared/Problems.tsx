// What went wrong, in the service's words: the text, the place, the way out.
import Alert from "react-bootstrap/Alert";
import type { Problem, QueryError } from "./api";

export function ProblemBox({ problem, onClose }: { problem: Problem; onClose?: () => void }) {
  return (
    <Alert variant="danger" className="problem" role="alert" dismissible={onClose !== undefined} {...(onClose ? { onClose } : {})}>
      {problem.errors.length > 0 ? problem.errors.map((e, i) => (
        <div key={i}>
          <strong>{e.code}</strong> {e.message}
          {e.excerpt && <pre>{e.excerpt}</pre>}
          {e.hint && <div>{e.hint}</div>}
        </div>
      )) : <>{problem.message}{problem.hint && <div>{problem.hint}</div>}</>}
    </Alert>
  );
}

export function Warnings({ marks }: { marks: QueryError[] }) {
  return (
    <>
      {marks.filter((m) => m.severity === "warning").map((m, i) => (
        <Alert key={i} variant="warning" className="problem">{m.message}{m.hint ? `: ${m.hint}` : ""}</Alert>
      ))}
    </>
  );
}
