import { useMutation, useQuery } from "@tanstack/react-query";
import type { LucideIcon } from "lucide-react";
import { Link, useNavigate } from "react-router";
import { calls, result, type AnyRequest } from "../api/client.ts";
import { Failure } from "./failure.tsx";
import { PlanView } from "./plan-view.tsx";

type Asked = {
  request: AnyRequest;
  /** What is said while it is planned. */
  looking: string;
  /** The button that starts it, and the way back. */
  go: string;
  icon: LucideIcon;
  stay: { to: string; text: string };
};

/** A request without choices: its plan, and the start. */
export function OnePlan({ request, looking, go, icon: Icon, stay }: Asked) {
  const navigate = useNavigate();
  const plan = useQuery({
    queryKey: ["one plan", request],
    queryFn: () => result(calls.POST("/v1/plans", { body: request })),
    retry: false,
  });
  const start = useMutation({
    mutationFn: (kept: string) => result(calls.POST("/v1/jobs", { body: { plan: kept } })),
    onSuccess: (job) => navigate(`/jobs/${job.id}`),
  });
  return (
    <>
      {plan.error && <Failure error={plan.error} />}
      {plan.isPending && <p>{looking}</p>}
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
              <Icon aria-hidden className="size-4" />
              {go}
            </button>
            <Link className="btn" to={stay.to}>
              {stay.text}
            </Link>
          </div>
        </section>
      )}
      {start.error && <Failure error={start.error} />}
    </>
  );
}
