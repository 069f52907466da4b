import { TriangleAlert } from "lucide-react";

/** Says what went wrong. */
export function Failure({ error }: { error: Error }) {
  return (
    <div role="alert" className="alert alert-error alert-soft items-start">
      <TriangleAlert aria-hidden className="mt-0.5 size-5 shrink-0" />
      <span>{error.message}</span>
    </div>
  );
}
