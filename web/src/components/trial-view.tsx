import { CircleCheck, OctagonX } from "lucide-react";
import type { Trial } from "../api/client.ts";

/** What worked of a trial, step by step. */
export function TrialView({ trial }: { trial: Trial }) {
  return (
    <ul className="space-y-1.5 text-sm" aria-label="What was tried">
      {trial.steps.map((step) => {
        const Icon = step.worked ? CircleCheck : OctagonX;
        return (
          <li key={step.name} className="flex gap-2">
            <Icon
              aria-label={step.worked ? "Works" : "Does not work"}
              className={`mt-0.5 size-4 shrink-0 ${step.worked ? "text-success" : "text-error"}`}
            />
            <span>
              <b className="font-semibold">{step.name}</b>: {step.said}
            </span>
          </li>
        );
      })}
      {trial.facts?.caveats?.map((caveat) => (
        <li key={caveat} className="opacity-75">
          Note: {caveat}.
        </li>
      ))}
    </ul>
  );
}
