import { useMutation } from "@tanstack/react-query";
import { CircleHelp } from "lucide-react";
import { calls, result, type Job, type Question } from "../api/client.ts";
import { Failure } from "./failure.tsx";

/** What a job asks, with the answers to choose from. */
export function Asked({ job, question }: { job: Job; question: Question }) {
  const answer = useMutation({
    mutationFn: (name: string) =>
      result(calls.POST("/v1/jobs/{job}/answer", { params: { path: { job: job.id } }, body: { name } })),
  });
  return (
    <section className="sheet space-y-4" aria-label="What it asks">
      <p className="flex gap-3 break-words">
        <CircleHelp aria-hidden className="text-warning size-5 shrink-0" />
        {question.text}
      </p>
      <div className="flex flex-wrap gap-2">
        {question.answers.map((choice) => (
          <button
            key={choice.name}
            type="button"
            className="btn h-auto py-2 text-left"
            disabled={answer.isPending}
            onClick={() => answer.mutate(choice.name)}
          >
            {choice.label}
          </button>
        ))}
      </div>
      {answer.error && <Failure error={answer.error} />}
    </section>
  );
}
