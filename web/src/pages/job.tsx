import { useMutation, useQuery } from "@tanstack/react-query";
import { CircleStop, RotateCcw } from "lucide-react";
import { useNavigate, useParams } from "react-router";
import { calls, result, type Job } from "../api/client.ts";
import { hasEnded, useFollow } from "../api/follow.ts";
import { Failure } from "../components/failure.tsx";
import { PlanView } from "../components/plan-view.tsx";
import { Progress } from "../components/progress.tsx";
import { ReceiptView } from "../components/receipt-view.tsx";
import { State } from "../components/state.tsx";
import { placeName } from "../format.ts";

/** One job: what is happening, then what happened. */
export function JobPage() {
  const { id = "" } = useParams();
  useFollow(id);
  const path = { job: id };
  const job = useQuery({
    queryKey: ["job", id],
    queryFn: () => result(calls.GET("/v1/jobs/{job}", { params: { path } })),
  });
  const receipt = useQuery({
    queryKey: ["receipt", id],
    queryFn: () =>
      result(calls.GET("/v1/jobs/{job}/receipt", { params: { path }, headers: { Accept: "application/json" } })),
    enabled: Boolean(job.data?.outcome),
  });
  if (job.error) return <Failure error={job.error} />;
  if (!job.data) return <p>Looking for the job.</p>;
  return (
    <div className="space-y-6">
      <Title job={job.data} />
      {!hasEnded(job.data) && (
        <section className="sheet" aria-label="Progress">
          <Progress job={job.data} />
        </section>
      )}
      {job.data.reason && !receipt.data && <Failure error={new Error(job.data.reason)} />}
      {receipt.data && typeof receipt.data !== "string" && <ReceiptView receipt={receipt.data} />}
      <details className="sheet">
        <summary className="cursor-pointer">The plan it was started with</summary>
        <div className="mt-4">
          <PlanView plan={job.data.plan} />
        </div>
      </details>
    </div>
  );
}

function Title({ job }: { job: Job }) {
  const navigate = useNavigate();
  const path = { job: job.id };
  const cancel = useMutation({ mutationFn: () => result(calls.POST("/v1/jobs/{job}/cancel", { params: { path } })) });
  const again = useMutation({
    mutationFn: () => result(calls.POST("/v1/jobs/{job}/again", { params: { path } })),
    onSuccess: (next) => navigate(`/jobs/${next.id}`),
  });
  const problem = cancel.error ?? again.error;
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1>Job {job.id}</h1>
        <State job={job} />
        <span className="grow" />
        {hasEnded(job) ? (
          <button type="button" className="btn btn-sm" disabled={again.isPending} onClick={() => again.mutate()}>
            <RotateCcw aria-hidden className="size-4" />
            Start again
          </button>
        ) : (
          <button type="button" className="btn btn-sm" disabled={cancel.isPending} onClick={() => cancel.mutate()}>
            <CircleStop aria-hidden className="size-4" />
            Cancel
          </button>
        )}
      </div>
      <p className="break-all">
        {job.request.kind} {placeName(job.request.source)}
        {job.request.destination && ` to ${placeName(job.request.destination)} as ${job.request.as}`}
      </p>
      {problem && <Failure error={problem} />}
    </>
  );
}
