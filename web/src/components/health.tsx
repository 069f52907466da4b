import { useQuery } from "@tanstack/react-query";
import { TriangleAlert } from "lucide-react";
import { calls, type Health } from "../api/client.ts";

/** Says that the service cannot write its records, or does not answer, as long as that is so. */
export function HealthNote() {
  const health = useQuery({
    queryKey: ["health"],
    queryFn: async (): Promise<Health | undefined> => {
      const { data, error } = await calls.GET("/v1/health");
      return data ?? (error as Health | undefined);
    },
    refetchInterval: 5000,
    retry: false,
  });
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
