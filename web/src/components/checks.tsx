import { CircleCheck, OctagonX, TriangleAlert } from "lucide-react";
import type { Check, Remedy } from "../api/client.ts";

const looks = {
  blocks: { icon: OctagonX, colour: "text-error", name: "Blocks" },
  warns: { icon: TriangleAlert, colour: "text-warning", name: "Warns" },
  informs: { icon: CircleCheck, colour: "text-success", name: "Informs" },
};

/** The checks of a plan. With onRemedy their remedies are buttons. */
export function Checks({ checks, onRemedy }: { checks: Check[]; onRemedy?: (remedy: Remedy) => void }) {
  return (
    <ul className="space-y-3">
      {checks.map((check) => {
        const { icon: Icon, colour, name } = looks[check.severity];
        return (
          <li key={check.name + check.message} className="flex gap-3" data-severity={check.severity}>
            <Icon aria-label={name} className={`mt-0.5 size-5 shrink-0 ${colour}`} />
            <div className="min-w-0">
              <p className="break-words">{check.message}</p>
              {onRemedy && check.remedies && (
                <p className="mt-2 flex flex-wrap gap-2">
                  {check.remedies.map((remedy) => (
                    <button
                      key={remedy.label}
                      type="button"
                      className="btn btn-sm btn-accent h-auto min-h-8 max-w-full py-1 text-left whitespace-normal"
                      onClick={() => onRemedy(remedy)}
                    >
                      {remedy.label}
                    </button>
                  ))}
                </p>
              )}
            </div>
          </li>
        );
      })}
    </ul>
  );
}
