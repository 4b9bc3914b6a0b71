// Words of the service's own short lists (states, kinds, phases) that the pages show in the language of the pages.
// Anything else that the service says stays as it is.
export const SERVICE_WORDS = [
  // States and kinds of jobs.
  "running", "done", "failed", "cancelled", "load", "check", "key", "index", "model", "analyze", "restore", "verify",
  // Phases of jobs.
  "waiting", "fetching", "reading", "resolving keys", "building", "writing",
  // Kinds of requests that run, and how far they are.
  "query", "profile", "export", "look", "planning",
  // Why a row was rejected.
  "shape", "value", "expression", "empty-key", "empty-reference", "label", "no-such-node", "key-conflict", "type",
  // What made a version, and what became of an element.
  "create", "commit", "fold", "added", "changed", "removed",
  // Sides of a search.
  "from", "to",
] as const;
