// How a graph's labels look in every drawing, for everybody: kept by the service.
import { useQuery } from "@tanstack/react-query";
import { get } from "./api";

export interface LabelLook {
  /** `#rrggbb`; without it one of the palette, by the label's name. */
  colour?: string;
  /** The property whose value stands under a node; without it the key. */
  caption?: string;
}

export interface GraphLooks {
  labels: { [label: string]: LabelLook };
}

const NONE: GraphLooks = { labels: {} };

export const looksPath = (graph: string): string => `/v1/graphs/${encodeURIComponent(graph)}/looks`;

export function useLooks(graph: string | null): GraphLooks {
  const looks = useQuery({ queryKey: ["looks", graph], queryFn: () => get<GraphLooks>(looksPath(graph ?? "")), enabled: graph !== null, staleTime: 30_000 });
  return looks.data ?? NONE;
}

/** What is chosen for a node: that of the first of its labels for which there is something. */
export function chosenFor(looks: GraphLooks, labels: string[], what: keyof LabelLook): string | undefined {
  return labels.map((label) => looks.labels[label]?.[what]).find((chosen) => chosen !== undefined && chosen !== "");
}
