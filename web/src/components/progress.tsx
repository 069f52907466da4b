import type { Job } from "../api/client.ts";
import { exact, size, span, speed, when } from "../format.ts";

/** What is happening: the step, and how far it is in bytes of real data. */
export function Progress({ job }: { job: Job }) {
  const p = job.progress;
  if (job.state === "waiting") return <p>Waits for its turn.</p>;
  if (job.state === "paused") return <p>It has paused. What it has done stays, and it goes on from there.</p>;
  if (job.state === "asking" && job.question?.until)
    return <p>Nothing runs until it is due. Cancelling ends it: the machine goes on where it is.</p>;
  if (job.state === "asking") return <p>It waits for an answer. What it has done stays, and it goes on from there.</p>;
  if (!p) return <p>Begins.</p>;
  const share = p.total > 0 ? Math.min(100, (100 * p.done) / p.total) : undefined;
  return (
    <div className="space-y-3">
      <p>
        Step {p.number} of {p.steps}: {p.title}
      </p>
      <progress className="progress progress-primary w-full" value={share} max={100} aria-label={p.title} />
      {p.total > 0 && (
        <dl className="grid grid-cols-2 gap-3 sm:grid-cols-4">
          <Figure name="Done" value={`${size(p.done)} of ${size(p.total)}`} title={exact(p.done)} />
          <Figure name="Speed now" value={speed(p.speed)} />
          <Figure name="On average" value={speed(p.average)} />
          <Figure name="Time left" value={span(p.seconds_left)} title={`this step since ${when(p.since)}`} />
        </dl>
      )}
      {p.limited_by && <p className="text-sm opacity-75">Most of the time goes to {p.limited_by}.</p>}
    </div>
  );
}

function Figure({ name, value, title }: { name: string; value: string; title?: string }) {
  return (
    <div title={title}>
      <dt className="text-xs opacity-75">{name}</dt>
      <dd className="figures">{value}</dd>
    </div>
  );
}
