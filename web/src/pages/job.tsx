import { useMutation, useQuery } from "@tanstack/react-query";
import { useNavigate, useParams } from "react-router";
import { calls, result, type Check, type Job, type Remedy } from "../api/client.ts";
import { mend } from "../api/mend.ts";
import { Asked } from "../components/asked.tsx";
import { CarriedMachine } from "../components/carried-machine.tsx";
import { Checks } from "../components/checks.tsx";
import { Failure } from "../components/failure.tsx";
import { JobActions } from "../components/job-actions.tsx";
import { Pace } from "../components/pace.tsx";
import { PassesChart } from "../components/passes-chart.tsx";
import { PlanView } from "../components/plan-view.tsx";
import { Progress } from "../components/progress.tsx";
import { ReceiptView } from "../components/receipt-view.tsx";
import { SpeedChart } from "../components/speed-chart.tsx";
import { State } from "../components/state.tsx";
import { Strip } from "../components/strip.tsx";
import { placeName, workName, subjectName } from "../format.ts";

/** One job: what is happening, then what happened. */
export function JobPage() {
  const { id = "" } = useParams();
  const path = { job: id };
  const job = useQuery({
    queryKey: ["job", id],
    queryFn: () => result(calls.GET("/v1/jobs/{job}", { params: { path } })),
    refetchInterval: (q) => (q.state.data?.question?.until ? 5000 : false), // how far a copy is behind is no news
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
      {job.data.reason && !receipt.data && <Reason job={job.data} />}
      {!job.data.ended && (
        <section className="sheet space-y-5" aria-label="Progress">
          <Progress job={job.data} />
          <Pace key={`${job.data.speed} ${job.data.hours}`} job={job.data} />
        </section>
      )}
      <Course job={job.data} />
      {receipt.data && typeof receipt.data !== "string" && (
        <>
          {receipt.data.machine && <CarriedMachine machine={receipt.data.machine} />}
          <ReceiptView receipt={receipt.data} />
        </>
      )}
      <details className="sheet">
        <summary className="cursor-pointer">The plan it was started with</summary>
        <div className="mt-4">{job.data.plan && <PlanView plan={job.data.plan} />}</div>
      </details>
    </div>
  );
}

function Title({ job }: { job: Job }) {
  return (
    <>
      <div className="flex flex-wrap items-center gap-3">
        <h1>Job {job.id}</h1>
        <State job={job} />
        <span className="grow" />
        <JobActions job={job} />
      </div>
      <p className="break-all">
        {workName(job.request)} {subjectName(job.request)}
        {job.request.slot && `, ${job.request.slot}`}
        {job.request.snapshot && `, ${job.request.snapshot}`}
        {job.request.to && ` to ${job.request.to}`}
        {job.request.to && job.request.destination && `, into ${job.request.destination.pool}`}
        {!job.request.to && job.request.destination && ` to ${placeName(job.request.destination)}`}
        {job.request.as && ` as ${job.request.as}`}
      </p>
    </>
  );
}

/** Why it waits, has paused, or failed. */
function Reason({ job }: { job: Job }) {
  if (job.ended) return <Failure error={new Error(job.reason)} />;
  if (job.question) return <Asked job={job} question={job.question} />;
  if (job.stopped_by) return <Stopped job={job} check={job.stopped_by} />;
  return <p className="sheet">{job.reason}</p>;
}

/** What stands in its way. A remedy ends the job, and starts its request anew with the change. */
function Stopped({ job, check }: { job: Job; check: Check }) {
  const navigate = useNavigate();
  const anew = useMutation({
    mutationFn: async (remedy: Remedy) => {
      const plan = await result(calls.POST("/v1/plans", { body: mend(job.request, remedy) }));
      const stop = plan.plan.checks.find((c) => c.severity === "blocks");
      if (stop) throw new Error(stop.message);
      await result(calls.POST("/v1/jobs/{job}/cancel", { params: { path: { job: job.id } } }));
      return result(calls.POST("/v1/jobs", { body: { plan: plan.id } }));
    },
    onSuccess: (next) => navigate(`/jobs/${next.id}`),
  });
  return (
    <section className="sheet space-y-3" aria-label="What stopped it">
      <Checks checks={[check]} onRemedy={(remedy) => anew.mutate(remedy)} />
      <p>{job.reason?.replace(check.message, "")}</p>
      {anew.error && <Failure error={anew.error} />}
    </section>
  );
}

/** How it went so far: where on the disk, and how fast. */
function Course({ job }: { job: Job }) {
  const p = job.progress;
  const passes = p?.passes ?? [];
  if (!p || (!p.strip && !p.disks && (p.speeds ?? []).length < 2 && passes.length === 0)) return null;
  return (
    <section className="sheet space-y-6" aria-label="Course">
      {p.disks?.map(({ disk, strip }) => (
        <Strip key={placeName(disk)} name={placeName(disk)} letters={strip} />
      ))}
      {!p.disks && p.strip && <Strip letters={p.strip} />}
      <PassesChart passes={passes} stop={p.stop ?? 0} />
      <SpeedChart speeds={p.speeds ?? []} seconds={p.speed_seconds ?? 1} />
    </section>
  );
}
