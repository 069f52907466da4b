import type { Job } from "../api/client.ts";

const colours: Record<string, string> = {
  waiting: "badge-ghost",
  running: "badge-info",
  proven: "badge-success",
  unproven: "badge-warning",
  failed: "badge-error",
  cancelled: "badge-neutral",
  paused: "badge-warning",
  asking: "badge-warning",
  "kept up to date": "badge-success",
  "not kept up to date": "badge-warning",
  "done with damage": "badge-warning",
};

/** The state of a job, and how it ended where that says more. */
export function State({ job }: { job: Job }) {
  const ended = job.outcome === "damaged" ? "done with damage" : job.outcome;
  const keeps = job.state === "asking" && job.question?.until;
  const kept = !keeps ? job.state : job.question?.trouble ? "not kept up to date" : "kept up to date";
  const word = job.state === "done" && ended ? ended : kept;
  return <span className={`badge badge-soft ${colours[word] ?? ""}`}>{word}</span>;
}
