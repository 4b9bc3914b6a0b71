// A job that is running, as the service tells of it.
import { useEffect, useState } from "react";
import type { Job } from "../shared/api";

/** A job as its events tell it. */
export function useJob(id: number | null): Job | null {
  const [job, setJob] = useState<Job | null>(null);
  useEffect(() => {
    setJob(null);
    if (id === null) return undefined;
    const source = new EventSource(`/v1/jobs/${id}/events`);
    const seen = (event: MessageEvent<string>) => {
      const next = JSON.parse(event.data) as Job;
      setJob(next);
      if (next.state !== "running") source.close();
    };
    source.addEventListener("progress", seen);
    source.addEventListener("end", seen);
    return () => source.close();
  }, [id]);
  return job;
}
