import { useMutation, useQuery } from "@tanstack/react-query";
import { Play } from "lucide-react";
import { useNavigate } from "react-router";
import { calls, result, type AnyRequest, type Remedy } from "../api/client.ts";
import { Failure } from "./failure.tsx";
import { PlanView } from "./plan-view.tsx";
import { Same } from "./same.tsx";

type Props = {
  /** What is asked for, once it has not changed for a moment. */
  request: AnyRequest;
  /** Whether a plan can be made of it. */
  complete: boolean;
  /** Whether that is what is on the page. */
  current: boolean;
  /** What is missing, when it is not complete. */
  hint: string;
  onRemedy: (remedy: Remedy) => void;
};

/** What would happen, beside what is asked for; and the start. */
export function Outlook({ request, complete, current, hint, onRemedy }: Props) {
  const plan = useQuery({
    queryKey: ["plan", request],
    queryFn: ({ signal }) => result(calls.POST("/v1/plans", { body: request, signal })),
    enabled: complete,
    staleTime: 0,
    placeholderData: (before) => before,
  });
  const navigate = useNavigate();
  const start = useMutation({
    mutationFn: (id: string) => result(calls.POST("/v1/jobs", { body: { plan: id } })),
    onSuccess: (job) => navigate(`/jobs/${job.id}`),
  });
  const ready = complete && current && plan.data && !plan.isFetching && !plan.error && !plan.data.blocked;
  return (
    <section className="sheet space-y-5" aria-label="Plan" aria-busy={plan.isFetching}>
      <h2>What would happen</h2>
      {!complete && <p className="opacity-75">{hint} Nothing is touched before you start it.</p>}
      {plan.error && <Failure error={plan.error} />}
      {complete && plan.data && !plan.error && <PlanView plan={plan.data.plan} onRemedy={onRemedy} />}
      {complete && <Same request={request} />}
      {start.error && <Failure error={start.error} />}
      <button
        type="button"
        className="btn btn-primary w-full"
        disabled={!ready || start.isPending}
        onClick={() => plan.data && start.mutate(plan.data.id)}
      >
        <Play aria-hidden className="size-4" />
        {plan.data?.blocked && complete ? "Something stands in the way" : "Start"}
      </button>
    </section>
  );
}
