import { useMutation } from "@tanstack/react-query";
import { CirclePause, CirclePlay, CircleStop, ListStart, RotateCcw } from "lucide-react";
import { useNavigate } from "react-router";
import { calls, result, type Job } from "../api/client.ts";
import { hasEnded } from "../api/follow.ts";
import { Failure } from "./failure.tsx";

/** What can be done to a job in its present state. */
export function JobActions({ job }: { job: Job }) {
  const navigate = useNavigate();
  const params = { path: { job: job.id } };
  const act = useMutation({ mutationFn: (call: () => Promise<Job>) => call() });
  const again = useMutation({
    mutationFn: () => result(calls.POST("/v1/jobs/{job}/again", { params })),
    onSuccess: (next) => navigate(`/jobs/${next.id}`),
  });
  const problem = act.error ?? again.error;
  const button = (name: string, Icon: typeof CircleStop, call: () => Promise<Job>) => (
    <button type="button" className="btn btn-sm" disabled={act.isPending} onClick={() => act.mutate(call)}>
      <Icon aria-hidden className="size-4" />
      {name}
    </button>
  );
  const mayPause = job.state === "waiting" || job.state === "running" || (job.state === "paused" && job.by_itself);
  return (
    <>
      <div className="flex flex-wrap gap-2">
        {job.state === "waiting" &&
          button("To the front", ListStart, () =>
            result(calls.POST("/v1/jobs/{job}/move", { params, body: { before: "first" } })),
          )}
        {mayPause && button("Pause", CirclePause, () => result(calls.POST("/v1/jobs/{job}/pause", { params })))}
        {job.state === "paused" &&
          button("Go on", CirclePlay, () => result(calls.POST("/v1/jobs/{job}/resume", { params })))}
        {!hasEnded(job) && button("Cancel", CircleStop, () => result(calls.POST("/v1/jobs/{job}/cancel", { params })))}
        {hasEnded(job) && (
          <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate()}>
            <RotateCcw aria-hidden className="size-4" />
            Start again
          </button>
        )}
      </div>
      {problem && <Failure error={problem} />}
    </>
  );
}
