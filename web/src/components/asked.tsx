import { useMutation } from "@tanstack/react-query";
import { CircleHelp, RefreshCw } from "lucide-react";
import { useState } from "react";
import { calls, result, type Job, type Question } from "../api/client.ts";
import { exact, size, span, when } from "../format.ts";
import { Failure } from "./failure.tsx";

/** What a job asks, with the answers to choose from. */
export function Asked({ job, question }: { job: Job; question: Question }) {
  const [sure, setSure] = useState("");
  const answer = useMutation({
    mutationFn: (name: string) =>
      result(calls.POST("/v1/jobs/{job}/answer", { params: { path: { job: job.id } }, body: { name } })),
  });
  return (
    <section className="sheet space-y-4" aria-label="What it asks">
      <p className="flex gap-3 break-words">
        {question.until && !question.trouble ? (
          <RefreshCw aria-hidden className="text-success size-5 shrink-0" />
        ) : (
          <CircleHelp aria-hidden className="text-warning size-5 shrink-0" />
        )}
        {question.text}
      </p>
      {job.behind && question.until && <Behind behind={job.behind} until={question.until} />}
      <div className="flex flex-wrap gap-2">
        {question.answers.map((choice, i) => {
          const asks = Boolean(question.until) && i > 0 && sure !== choice.name; // it goes on by itself, and ends with this
          return (
            <button
              key={choice.name}
              type="button"
              className={`btn h-auto py-2 text-left ${sure === choice.name ? "btn-warning" : ""}`}
              disabled={answer.isPending}
              onClick={() => (asks ? setSure(choice.name) : answer.mutate(choice.name))}
            >
              {sure === choice.name ? `Yes. ${choice.label}` : choice.label}
            </button>
          );
        })}
      </div>
      {answer.error && <Failure error={answer.error} />}
    </section>
  );
}

/** How far a copy is behind that is kept up to date. */
function Behind({ behind, until }: { behind: NonNullable<Job["behind"]>; until: string }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1" aria-label="How far it is behind">
      <dt>Behind by</dt>
      <dd>
        <span className="figures">{span(behind.seconds)}</span>
      </dd>
      <dt>Written since</dt>
      <dd className="figures" title={behind.bytes === undefined ? undefined : exact(behind.bytes)}>
        {behind.bytes === undefined ? "not known" : size(behind.bytes)}
      </dd>
      <dt>Next copied</dt>
      <dd className="figures">{when(until)}</dd>
    </dl>
  );
}
