import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { CircleCheck, OctagonX, Trash2, Undo2 } from "lucide-react";
import { useState } from "react";
import { calls, items, result, type Held, type Limit } from "../api/client.ts";
import { checkReceipts } from "../api/receipts.ts";
import { Channels } from "../components/channels.tsx";
import { Failure } from "../components/failure.tsx";
import { LetIn } from "../components/let-in.tsx";
import { exact, size, speed, when } from "../format.ts";

/** What the service keeps: replaced files, receipts, limits, who uses what, who is told what happens, who is let in, and the log. */
export function KeepingPage() {
  return (
    <div className="space-y-6">
      <h1>Keeping</h1>
      <HeldFiles />
      <Receipts />
      <Limits />
      <Leases />
      <Channels />
      <LetIn />
      <Log />
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

function Receipts() {
  const check = useQuery({ queryKey: ["receipts"], queryFn: checkReceipts });
  return (
    <section className="sheet space-y-3" aria-label="Receipts">
      <h2>Receipts</h2>
      {check.error && <Failure error={check.error} />}
      {check.isPending && <p>Checking all receipts.</p>}
      {check.data &&
        (check.data.broken ? (
          <p className="flex items-center gap-2 text-error">
            <OctagonX aria-hidden className="size-5 shrink-0" /> {check.data.broken}
          </p>
        ) : (
          <>
            <p className="flex items-center gap-2 text-success">
              <CircleCheck aria-hidden className="size-5 shrink-0" />
              {check.data.count} receipts, each as it was signed, in an unbroken chain.
            </p>
            <p className="figures break-all opacity-75">Head {check.data.head}</p>
          </>
        ))}
      {check.data?.key && (
        <p className="text-sm">
          <a
            className="link"
            download="receipts.jwk"
            href={`data:application/json,${encodeURIComponent(check.data.key)}`}
          >
            Public key
          </a>{" "}
          that checks them, for <code>bagaglio receipt check --key receipts.jwk</code>. Keep it in another place.
        </p>
      )}
    </section>
  );
}

function Limits() {
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

function Log() {
  const log = useQuery({
    queryKey: ["log"],
    queryFn: () => items(calls.GET("/v1/log", { params: { query: { limit: 50 } } })),
  });
  return (
    <section className="sheet space-y-3" aria-label="Log">
      <h2>Log</h2>
      {log.error && <Failure error={log.error} />}
      <ol className="divide-y divide-base-300 text-sm">
        {log.data?.map((e) => (
          <li key={e.number} className="grid gap-x-4 py-1.5 sm:grid-cols-[12rem_12rem_1fr]">
            <span className="opacity-75">{when(e.at)}</span>
            <span className="break-all">
              {e.who}
              {e.origin && ` from ${e.origin}`}
            </span>
            <span className="break-all">
              {e.subject && `${e.subject}: `}
              {e.what}
              {e.result && e.result !== "done" && `, ${e.result}`}
            </span>
          </li>
        ))}
      </ol>
    </section>
  );
}
