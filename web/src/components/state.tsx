import type { Job } from "../api/client.ts";

const colours: Record<string, string> = {
  waiting: "badge-ghost",
  running: "badge-info",
  proven: "badge-success",
  unproven: "badge-warning",
  failed: "badge-error",
  cancelled: "badge-neutral",
  interrupted: "badge-warning",
};

/** The state of a job, and how it ended where that says more. */
export function State({ job }: { job: Job }) {
  const word = job.state === "done" && job.outcome ? job.outcome : job.state;
  return <span className={`badge badge-soft ${colours[word] ?? ""}`}>{word}</span>;
}
