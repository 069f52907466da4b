import type { Job } from "../api/client.ts";
import { stateName } from "../format.ts";

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
  const word = stateName(job);
  return <span className={`badge badge-soft ${colours[word] ?? ""}`}>{word}</span>;
}
