// The work on a load: its files, their columns, the mapping as text and as rules, and the job.
import { useQuery, useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { type Job, type Model, Problem, get, post, postForm } from "../shared/api";
import { useAttempt } from "../shared/attempt";
import { useHeld } from "../shared/held";
import { say } from "../shared/words";
import { type Mapping, type MappingTable, type TableColumns, propose } from "./mapping";
import type { Preview } from "./Preview";
import { useJob } from "./useJob";

function uploaded(files: File[], mapping: string): FormData {
  const form = new FormData();
  form.append("mapping", mapping);
  files.forEach((file) => form.append(file.name, file, file.name));
  return form;
}

export function useLoad(graph: string | null) {
  const client = useQueryClient();
  // Files live as long as the tab's page; what was made of them outlives a reload too.
  const [files, setFiles] = useHeld<File[]>(`load files ${graph}`, []);
  const [tables, setTables] = useHeld<TableColumns[]>(`load tables ${graph}`, [], "reloads");
  const [text, setText] = useHeld(`load text ${graph}`, "", "reloads");
  const [mapping, setMapping] = useHeld<Mapping | null>(`load mapping ${graph}`, null, "reloads");
  const [previews, setPreviews] = useHeld<Preview[]>(`load previews ${graph}`, []);
  const { busy, problem, setProblem, attempt } = useAttempt();
  const [jobId, setJobId] = useHeld<number | null>(`load job ${graph}`, null, "reloads");
  const job = useJob(jobId);
  const model = useQuery({ queryKey: ["model", graph], queryFn: () => get<Model>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/model`), enabled: graph !== null });
  useEffect(() => {
    if (job && job.state !== "running") void client.invalidateQueries({ queryKey: ["graphs"] });
  }, [job, client]);
  const choose = (chosen: File[]) => attempt(say("Looking at the tables …"), async () => {
    setFiles(chosen);
    setPreviews([]);
    setJobId(null);
    const own = chosen.find((f) => f.name.endsWith(".toml"));
    const sources = chosen.filter((f) => f !== own);
    const form = new FormData();
    sources.forEach((file) => form.append(file.name, file, file.name));
    const looked = sources.length > 0 ? await postForm<TableColumns[]>("/v1/columns", form) : [];
    setTables(looked);
    setFiles(sources);
    if (own) await read(await own.text());
    else if (mapping && mapping.table.every((table) => looked.some((t) => t.file === table.file))) return;
    else await write(propose(looked, model.data ?? null), "");
  });
  const read = async (next: string) => {
    setText(next);
    setMapping((await post<{ mapping: Mapping }>("/v1/mappings", { text: next })).mapping);
  };
  // The service writes the text: what was said in comments stays.
  const write = async (next: Mapping, before: string) => {
    setMapping(next);
    setText((await post<{ text: string }>("/v1/mappings", { text: before, mapping: next })).text);
  };
  const change = (place: number, table: MappingTable) => {
    if (!mapping) return;
    setPreviews([]);
    void attempt("", () => write({ ...mapping, table: mapping.table.map((t, i) => (i === place ? table : t)) }, text));
  };
  const edited = (next: string) => {
    setText(next);
    setPreviews([]);
    post<{ mapping: Mapping }>("/v1/mappings", { text: next }).then((answer) => { setMapping(answer.mapping); setProblem(null); }, (error: unknown) => { if (error instanceof Problem) setProblem(error); else throw error; });
  };
  const preview = () => attempt(say("Reading the first rows …"), async () => setPreviews(await postForm<Preview[]>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/loads/preview?rows=8`, uploaded(files, text))));
  const run = (check: boolean) => attempt(check ? say("Checking …") : say("Uploading …"), async () => setJobId((await postForm<Job>(`/v1/graphs/${encodeURIComponent(graph ?? "")}/loads?check=${check}`, uploaded(files, text))).id));
  const startOver = () => { setFiles([]); setTables([]); setText(""); setMapping(null); setPreviews([]); setJobId(null); setProblem(null); };
  const [types, lost] = [model.data ?? null, files.length === 0 && tables.length > 0];
  return { files, tables, text, mapping, previews, busy, problem, job, types, lost, choose, change, edited, preview, run, startOver };
}
