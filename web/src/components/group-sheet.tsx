import { useMutation, useQueryClient } from "@tanstack/react-query";
import { CirclePause, CirclePlay, CircleStop } from "lucide-react";
import { Link } from "react-router";
import { calls, result, type Group } from "../api/client.ts";
import { placeName, when, subjectName } from "../format.ts";
import { Failure } from "./failure.tsx";

/** Jobs that were started together: how far they are, what went wrong, and what can be done to all of them. */
export function GroupSheet({ group }: { group: Group }) {
  const client = useQueryClient();
  const act = useMutation({
    mutationFn: (what: "pause" | "resume" | "cancel") =>
      result(calls.POST("/v1/groups/{group}/{act}", { params: { path: { group: group.id, act: what } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["groups"] }),
  });
  const ended = group.jobs.filter((job) => job.ended);
  const failed = ended.filter((job) => job.state !== "done");
  const warned = group.jobs.flatMap((job) => (job.warnings ?? []).map((check) => ({ job, check })));
  const paused = group.jobs.some((job) => job.state === "paused");
  const button = (what: "pause" | "resume" | "cancel", name: string, Icon: typeof CircleStop) => (
    <button type="button" className="btn btn-sm" disabled={act.isPending} onClick={() => act.mutate(what)}>
      <Icon aria-hidden className="size-4" />
      {name}
    </button>
  );
  return (
    <section className="sheet space-y-3" aria-label={`Group ${group.id}`}>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <h2>{group.name}</h2>
        <span className="text-sm opacity-75">{when(group.created)}</span>
        <span className="grow" />
        {ended.length < group.jobs.length && (
          <span className="flex flex-wrap gap-2">
            {button("pause", "Pause all", CirclePause)}
            {paused && button("resume", "Go on with all", CirclePlay)}
            {button("cancel", "Cancel all", CircleStop)}
          </span>
        )}
      </div>
      <div className="flex items-center gap-3">
        <progress
          className="progress progress-primary max-w-md"
          value={ended.length}
          max={Math.max(group.jobs.length, 1)}
          aria-label="Jobs that have ended"
        />
        <span className="text-sm">
          {ended.length} of {group.jobs.length} have ended
        </span>
      </div>
      {act.error && <Failure error={act.error} />}
      {failed.length + group.refused.length + warned.length > 0 && (
        <ul className="space-y-1 text-sm">
          {failed.map((job) => (
            <li key={job.id}>
              <Link className="link" to={`/jobs/${job.id}`}>
                {subjectName(job.request)}
              </Link>{" "}
              {job.state}: {job.reason}
            </li>
          ))}
          {group.refused.map((refused) => (
            <li key={placeName(refused.source)}>
              {placeName(refused.source)} was not begun: {refused.why}
            </li>
          ))}
          {warned.map(({ job, check }) => (
            <li key={job.id + check.message}>
              <Link className="link" to={`/jobs/${job.id}`}>
                {subjectName(job.request)}
              </Link>
              : {check.message}
            </li>
          ))}
        </ul>
      )}
    </section>
  );
}
