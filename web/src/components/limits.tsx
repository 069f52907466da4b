import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, result, type Limit } from "../api/client.ts";
import { speed } from "../format.ts";
import { Failure } from "./failure.tsx";

/** How many jobs run at once, and how fast. */
export function Limits() {
  const limits = useQuery({ queryKey: ["limits"], queryFn: () => items(calls.GET("/v1/limits")) });
  return (
    <section className="sheet space-y-3" aria-label="Limits">
      <h2>Limits</h2>
      {limits.error && <Failure error={limits.error} />}
      <div className="space-y-3">
        {limits.data?.map((l) => (
          <LimitRow key={`${l.scope} ${l.name} ${l.jobs} ${l.speed}`} limit={l} />
        ))}
      </div>
    </section>
  );
}

const mib = 1 << 20;
const all = { service: "All jobs together", host: "Each host", pool: "Each pool", device: "Each device" };

function LimitRow({ limit }: { limit: Limit }) {
  const client = useQueryClient();
  const [jobs, setJobs] = useState(String(limit.jobs));
  const [most, setMost] = useState(limit.speed > 0 ? String(limit.speed / mib) : "");
  const name = limit.name ? `The ${limit.scope} ${limit.name}` : all[limit.scope];
  const set = useMutation({
    mutationFn: () =>
      result(
        calls.PUT("/v1/limits", {
          body: { ...limit, jobs: Number(jobs || "0"), speed: Math.round(Number(most || "0") * mib) },
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["limits"] }),
  });
  const drop = useMutation({
    mutationFn: () =>
      result(calls.DELETE("/v1/limits", { params: { query: { scope: limit.scope, name: limit.name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["limits"] }),
  });
  return (
    <form
      className="grid items-center gap-3 sm:grid-cols-[1fr_9rem_13rem_auto]"
      onSubmit={(event) => {
        event.preventDefault();
        set.mutate();
      }}
    >
      <span title={limit.speed > 0 ? speed(limit.speed) : "no limit"}>{name}</span>
      <label className="flex items-center gap-2 text-sm">
        <input
          className="input input-sm w-16"
          inputMode="numeric"
          value={jobs}
          aria-label={`${name}: jobs at once, 0 for no limit`}
          onChange={(e) => setJobs(e.target.value)}
        />
        at once
      </label>
      <label className="flex items-center gap-2 text-sm">
        <input
          className="input input-sm w-24"
          inputMode="decimal"
          placeholder="no limit"
          value={most}
          aria-label={`${name}: MiB a second`}
          onChange={(e) => setMost(e.target.value)}
        />
        MiB/s
      </label>
      <button type="submit" className="btn btn-sm" disabled={set.isPending}>
        Set
      </button>
      {limit.name && (
        <button
          type="button"
          className="btn btn-sm sm:col-start-4"
          disabled={drop.isPending}
          onClick={() => drop.mutate()}
        >
          Remove
        </button>
      )}
      {drop.error && <Failure error={drop.error} />}
      {set.error && <Failure error={set.error} />}
    </form>
  );
}
