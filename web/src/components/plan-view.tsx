import { ArrowDown } from "lucide-react";
import type { Check, Plan, Remedy, Side } from "../api/client.ts";
import { placeName, size, span } from "../format.ts";
import { ChangedFiles } from "./changed-files.tsx";
import { Checks } from "./checks.tsx";
import { MachineSides } from "./machine-sides.tsx";
import { Sizes } from "./sizes.tsx";

/** What a request would do: before and after, checks, steps, cost. */
export function PlanView({ plan, onRemedy }: { plan: Plan; onRemedy?: (remedy: Remedy) => void }) {
  return (
    <div className="space-y-5">
      {plan.machine && <MachineSides machine={plan.machine} />}
      {plan.before?.map((side, i) => (
        <div key={placeName(side.place)}>
          <DiskSide title="Before" side={side} />
          {plan.after?.[i] && (
            <>
              <ArrowDown aria-hidden className="mx-auto my-1 size-5 opacity-60" />
              <DiskSide title="After" side={plan.after[i]} />
            </>
          )}
        </div>
      ))}
      <section aria-label="Checks">
        {onRemedy && plan.checks.some(byRule) && (
          <button
            type="button"
            className="btn btn-sm btn-primary mb-3"
            onClick={() => onRemedy({ label: "", change: { by_rules: true } })}
          >
            Do all that the rules ask for
          </button>
        )}
        <Checks checks={plan.checks} onRemedy={onRemedy} />
      </section>
      {plan.adapt?.map((inside) => (
        <section key={placeName(inside.place)} className="space-y-3">
          <h3 className="font-semibold break-all">Inside of {placeName(inside.place)}, once it is proven</h3>
          <ChangedFiles files={inside.files} />
        </section>
      ))}
      {plan.steps.length > 0 && (
        <details>
          <summary className="cursor-pointer">
            {plan.steps.length === 1 ? "1 step" : `${plan.steps.length} steps`}: {size(plan.bytes_to_read)} to read,{" "}
            {size(plan.bytes_to_write)} to write, {span(plan.estimated_seconds)}
          </summary>
          <ol className="mt-2 list-decimal space-y-1 pl-6 text-sm">
            {plan.steps.map((step) => (
              <li key={step.id}>
                {step.title}
                {step.bytes > 0 && `: ${size(step.bytes)}`}
              </li>
            ))}
          </ol>
        </details>
      )}
    </div>
  );
}

/** Whether a check by the rules of the pool stands in the way and can be settled. */
function byRule(check: Check) {
  return check.severity === "blocks" && check.name.startsWith("rule-") && check.remedies;
}

function DiskSide({ title, side }: { title: string; side: Side }) {
  return (
    <div className="rounded-box bg-base-200 p-4">
      <div className="mb-2 flex flex-wrap items-baseline justify-between gap-x-3">
        <span className="text-sm opacity-75">{title}</span>
        <span className="text-sm">
          {side.format}, {side.layout}
        </span>
      </div>
      <p className="mb-2 font-medium break-all">{placeName(side.place)}</p>
      <Sizes virtual={side.virtual_size} allocated={side.allocated_size} file={side.file_size} />
    </div>
  );
}
