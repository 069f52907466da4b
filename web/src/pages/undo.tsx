import { useMutation, useQuery } from "@tanstack/react-query";
import { Undo2 } from "lucide-react";
import { Link, useNavigate, useParams } from "react-router";
import { calls, result } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { PlanView } from "../components/plan-view.tsx";

/** Taking back what an ended job did: the plan, and the start. */
export function UndoPage() {
  const { id = "" } = useParams();
  const navigate = useNavigate();
  const plan = useQuery({
    queryKey: ["undo", id],
    queryFn: () => result(calls.POST("/v1/plans", { body: { kind: "undo", job: id } })),
    retry: false,
  });
  const start = useMutation({
    mutationFn: (kept: string) => result(calls.POST("/v1/jobs", { body: { plan: kept } })),
    onSuccess: (job) => navigate(`/jobs/${job.id}`),
  });
  return (
    <div className="space-y-6">
      <h1>Take back job {id}</h1>
      <p>Nothing is removed and nothing is overwritten: what goes away is held for a while.</p>
      {plan.error && <Failure error={plan.error} />}
      {plan.isPending && <p>Looking at what the job left.</p>}
      {plan.data && (
        <section className="sheet space-y-5" aria-label="Plan">
          <PlanView plan={plan.data.plan} />
          <div className="flex flex-wrap gap-2">
            <button
              type="button"
              className="btn btn-primary"
              disabled={plan.data.blocked || start.isPending}
              onClick={() => start.mutate(plan.data.id)}
            >
              <Undo2 aria-hidden className="size-4" />
              Take it back
            </button>
            <Link className="btn" to={`/jobs/${id}`}>
              Leave it as it is
            </Link>
          </div>
        </section>
      )}
      {start.error && <Failure error={start.error} />}
    </div>
  );
}
