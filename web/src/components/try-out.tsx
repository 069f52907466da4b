import { useMutation } from "@tanstack/react-query";
import { FlaskConical } from "lucide-react";
import { calls, result } from "../api/client.ts";
import { size } from "../format.ts";
import { Failure } from "./failure.tsx";

/** Whether a machine comes up on a host, from its disks where they lie, before anything is copied. */
export function TryOut({ machine, host }: { machine: string; host: string }) {
  const trial = useMutation({
    mutationFn: () => result(calls.POST("/v1/hosts/{host}/trials", { params: { path: { host } }, body: { machine } })),
  });
  const seen = trial.data;
  return (
    <section aria-label="Trial" className="space-y-3 border-t border-base-300 pt-4">
      <div className="flex flex-wrap items-center gap-3">
        <p className="grow text-sm">
          Try it out on {host} first: it is started from its disks where they lie, and what it writes is thrown away.
        </p>
        <button type="button" className="btn btn-sm" disabled={trial.isPending} onClick={() => trial.mutate()}>
          <FlaskConical aria-hidden className="size-4" />
          {trial.isPending ? "It is starting" : "Try it out"}
        </button>
      </div>
      {trial.error && <Failure error={trial.error} />}
      {seen && (
        <div className="space-y-2">
          <p className={`alert alert-soft ${seen.came_up ? "alert-success" : "alert-warning"}`}>
            {seen.came_up ? "It came up" : "It was not seen to come up"} in {Math.round(seen.seconds)} s;{" "}
            {size(seen.bytes_read)} of its disks were read.
          </p>
          <ul className="list-disc pl-5 text-sm">
            {seen.evidence.map((line) => (
              <li key={line}>{line}</li>
            ))}
          </ul>
          {seen.screen && (
            <img
              className="rounded-box border border-base-300"
              src={`data:image/png;base64,${seen.screen}`}
              alt="What it showed at the end"
            />
          )}
          {seen.console && seen.console.length > 0 && (
            <pre className="overflow-x-auto text-xs">{seen.console.join("\n")}</pre>
          )}
        </div>
      )}
    </section>
  );
}
