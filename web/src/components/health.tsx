import { TriangleAlert } from "lucide-react";
import { useHealth } from "../api/health.ts";

/** Says that the service cannot write its records, or does not answer, as long as that is so. */
export function HealthNote() {
  const health = useHealth();
  const problem = health.error
    ? "The service does not answer: what is shown here may be old. It is tried again every few seconds."
    : health.data?.status === "waiting" && health.data.problem;
  if (!problem) return null;
  return (
    <div className="mx-auto max-w-6xl px-4 pt-4">
      <div role="alert" className="alert alert-error">
        <TriangleAlert aria-hidden className="size-5" />
        <span className="break-words first-letter:uppercase">{problem}</span>
      </div>
    </div>
  );
}
