import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Trash2, Undo2 } from "lucide-react";
import { useState } from "react";
import { calls, items, result, type Held } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { exact, size, when } from "../format.ts";

/** What was replaced or removed of late and can come back, and what jobs use at this moment. */
export function HeldPage() {
  return (
    <div className="space-y-6">
      <h1>Held and in use</h1>
      <HeldFiles />
      <Leases />
    </div>
  );
}

function HeldFiles() {
  const held = useQuery({ queryKey: ["held"], queryFn: () => items(calls.GET("/v1/held")) });
  return (
    <section className="sheet space-y-3" aria-label="Held files">
      <h2>Held files</h2>
      {held.error && <Failure error={held.error} />}
      {held.data?.length === 0 && <p className="opacity-75">Nothing was replaced of late.</p>}
      <ul className="divide-y divide-base-300">
        {held.data?.map((h) => (
          <HeldRow key={h.pool + h.id} held={h} />
        ))}
      </ul>
    </section>
  );
}

function HeldRow({ held }: { held: Held }) {
  const client = useQueryClient();
  const [sure, setSure] = useState(false);
  const params = { path: { pool: held.pool, held: held.id } };
  const done = { onSuccess: () => client.invalidateQueries() };
  const restore = useMutation({
    mutationFn: () =>
      result(
        calls.POST("/v1/pools/{pool}/held/{held}/restore", { params: { path: params.path, query: { swap: true } } }),
      ),
    ...done,
  });
  const remove = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/pools/{pool}/held/{held}", { params })),
    ...done,
  });
  const problem = restore.error ?? remove.error;
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-2 py-3">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">
          {held.pool}:{held.path}
        </p>
        <p className="text-sm opacity-75">
          {held.why}, {when(held.since)}; kept until {when(held.until)}
        </p>
        {held.moved && (
          <p className="text-sm opacity-75">
            Restoring it leaves its copy {held.moved} where it is.
            {held.definitions?.map(
              (d) =>
                ` The definition of ${d.machine} (${d.pool}:${d.path}) names the copy: restore what is held of that too.`,
            )}
          </p>
        )}
      </div>
      <span className="figures" title={exact(held.size)}>
        {size(held.size)}
      </span>
      <button
        type="button"
        className="btn btn-sm"
        disabled={restore.isPending}
        title="What has the name now is held in its place"
        onClick={() => restore.mutate()}
      >
        <Undo2 aria-hidden className="size-4" />
        Restore
      </button>
      <button
        type="button"
        className={`btn btn-sm ${sure ? "btn-error" : ""}`}
        disabled={remove.isPending}
        onBlur={() => setSure(false)}
        onClick={() => (sure ? remove.mutate() : setSure(true))}
      >
        <Trash2 aria-hidden className="size-4" />
        {sure ? "Remove for good" : "Remove"}
      </button>
      {problem && <Failure error={problem} />}
    </li>
  );
}

function Leases() {
  const leases = useQuery({ queryKey: ["leases"], queryFn: () => items(calls.GET("/v1/leases")) });
  return (
    <section className="sheet space-y-3" aria-label="In use">
      <h2>In use</h2>
      {leases.error && <Failure error={leases.error} />}
      {leases.data?.length === 0 && <p className="opacity-75">No job uses a disk now.</p>}
      <ul className="space-y-1">
        {leases.data?.map((l) => (
          <li key={l.file + l.job} className="text-sm break-all">
            Job {l.job} ({l.state}) {l.writes ? "writes" : "reads"} <span className="figures">{l.file}</span> since{" "}
            {when(l.since)}
          </li>
        ))}
      </ul>
    </section>
  );
}
