import { useMutation } from "@tanstack/react-query";
import { CirclePause, CirclePlay, CircleStop, ListStart, RotateCcw, Undo2 } from "lucide-react";
import { Link, useNavigate } from "react-router";
import { calls, result, type Job } from "../api/client.ts";
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
  const may = (action: Job["actions"][number]) => job.actions.includes(action);
  return (
    <>
      <div className="flex flex-wrap gap-2">
        {may("move") &&
          button("To the front", ListStart, () =>
            result(calls.POST("/v1/jobs/{job}/move", { params, body: { before: "first" } })),
          )}
        {may("pause") && button("Pause", CirclePause, () => result(calls.POST("/v1/jobs/{job}/pause", { params })))}
        {may("resume") && button("Go on", CirclePlay, () => result(calls.POST("/v1/jobs/{job}/resume", { params })))}
        {may("cancel") && button("Cancel", CircleStop, () => result(calls.POST("/v1/jobs/{job}/cancel", { params })))}
        {may("again") && (
          <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate()}>
            <RotateCcw aria-hidden className="size-4" />
            Start again
          </button>
        )}
        {may("undo") && (
          <Link className="btn btn-sm" to={`/jobs/${job.id}/undo`}>
            <Undo2 aria-hidden className="size-4" />
            Take back
          </Link>
        )}
      </div>
      {problem && <Failure error={problem} />}
    </>
  );
}
