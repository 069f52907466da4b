import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { calls, result, type Job } from "../api/client.ts";
import { Failure } from "./failure.tsx";

const mib = 1 << 20;

/** How fast and in which hours a job may run; both can be changed while it does. */
export function Pace({ job }: { job: Job }) {
  const [limit, setLimit] = useState(job.speed > 0 ? String(job.speed / mib) : "");
  const [hours, setHours] = useState(job.hours);
  const change = useMutation({
    mutationFn: () =>
      result(
        calls.PATCH("/v1/jobs/{job}", {
          params: { path: { job: job.id } },
          body: { speed: Math.round(Number(limit || "0") * mib), hours },
        }),
      ),
  });
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <label>
        <span className="block text-sm">Speed limit in MiB/s</span>
        <input
          className="input input-sm w-32"
          inputMode="decimal"
          placeholder="none"
          value={limit}
          onChange={(event) => setLimit(event.target.value)}
        />
      </label>
      <label>
        <span className="block text-sm">Hours</span>
        <input
          className="input input-sm w-36"
          placeholder="all, or 22:00-06:00"
          value={hours}
          onChange={(event) => setHours(event.target.value)}
        />
      </label>
      <button type="submit" className="btn btn-sm" disabled={change.isPending}>
        Set
      </button>
      {change.error && <Failure error={change.error} />}
    </form>
  );
}
