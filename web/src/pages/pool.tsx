import { keepPreviousData, useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useNavigate, useSearchParams } from "react-router";
import { calls, items, result, type Pool, type Rules } from "../api/client.ts";
import { Choice } from "../components/choice.tsx";
import { DiskRow } from "../components/disk-row.tsx";
import { Failure } from "../components/failure.tsx";
import { Files } from "../components/files.tsx";
import { Fill } from "../components/fill.tsx";
import { KnownAsOf, useLook } from "../components/looking.tsx";
import { Pages } from "../components/pages.tsx";
import { RulesForm } from "../components/rules-form.tsx";
import { TrialView } from "../components/trial-view.tsx";
import { exact, size, speed, when } from "../format.ts";

const perPage = 50;
const sorts = { path: "name", room: "room taken", virtual_size: "virtual size", modified: "time" } as const;
const onlys = {
  "": "all disks",
  broken: "those that do not open",
  overlays: "those that stand on others",
  bases: "those that others stand on",
  orphans: "those that no machine uses",
} as const;

/** One pool: what it can do, what it accepts, and all disks in it. */
export function PoolPage() {
  const [search] = useSearchParams();
  const name = search.get("name") ?? "";
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const pool = pools.data?.find((p) => p.name === name);
  if (pools.error) return <Failure error={pools.error} />;
  if (!pool) return <p>{pools.data ? `There is no pool ${name}.` : "Looking …"}</p>;
  return (
    <div className="space-y-6">
      <h1>{name}</h1>
      <div className="grid items-start gap-6 md:grid-cols-2">
        <Facts pool={pool} />
        <RulesSheet key={JSON.stringify(pool.rules)} pool={pool} />
      </div>
      <Disks pool={name} others={pools.data?.map((p) => p.name).filter((n) => n !== name) ?? []} />
      {!pool.volumes && pool.reachable && <Files pool={name} />}
    </div>
  );
}

function Facts({ pool }: { pool: Pool }) {
  const client = useQueryClient();
  const navigate = useNavigate();
  const path = { pool: pool.name };
  const trial = useMutation({
    mutationFn: () => result(calls.POST("/v1/pools/{pool}/test", { params: { path } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["pools"] }),
  });
  const forget = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/pools/{pool}", { params: { path } })),
    onSuccess: () => navigate("/"),
  });
  const facts = pool.facts;
  return (
    <section className="sheet space-y-4" aria-label="What it can do">
      <h2>What it can do</h2>
      <p className="text-sm break-all">
        {pool.volumes ? `${pool.volumes}, with ${pool.folder},` : pool.folder} on {pool.host},{" "}
        {pool.filesystem || "not reachable"}
      </p>
      {pool.reachable && <Fill name={pool.name} total={pool.total} free={pool.free} />}
      {pool.problem && <Failure error={new Error(pool.problem)} />}
      {facts && (
        <ul className="flex flex-wrap gap-2 text-sm">
          <Fact is={facts.holes} yes="files may have holes" no="no holes in files" />
          <Fact is={facts.clones} yes="files share blocks" no="files share no blocks" />
          <Fact is={facts.case_sensitive} yes="case-sensitive" no="not case-sensitive" />
          {pool.host === "local" && <Fact is={facts.removable} yes="removable" no="built in" />}
          {pool.largest_file && <li className="badge badge-outline">files up to {size(pool.largest_file)}</li>}
          {facts.write_speed && (
            <li className="badge badge-outline">
              reads {speed(facts.read_speed ?? 0)}, writes {speed(facts.write_speed)}
            </li>
          )}
        </ul>
      )}
      {facts && <p className="text-sm opacity-75">tried out {when(facts.at)}</p>}
      {trial.data && <TrialView trial={trial.data} />}
      {(trial.error ?? forget.error) && <Failure error={(trial.error ?? forget.error) as Error} />}
      <div className="flex gap-3">
        <button
          type="button"
          className="btn btn-sm btn-primary"
          disabled={trial.isPending}
          onClick={() => trial.mutate()}
        >
          {trial.isPending ? "Trying it out …" : "Try it out"}
        </button>
        <Link className="btn btn-sm" to={`/balance?${new URLSearchParams({ drain: pool.name })}`}>
          Empty it into others
        </Link>
        <button
          type="button"
          className="btn btn-sm"
          onClick={() => window.confirm(`Forget the pool ${pool.name}? Its files stay.`) && forget.mutate()}
        >
          Forget this pool
        </button>
      </div>
    </section>
  );
}

function Fact({ is, yes, no }: { is: boolean; yes: string; no: string }) {
  return <li className={`badge ${is ? "badge-secondary" : "badge-outline"}`}>{is ? yes : no}</li>;
}

function RulesSheet({ pool }: { pool: Pool }) {
  const client = useQueryClient();
  const traits = useQuery({
    queryKey: ["traits"],
    queryFn: () => items(calls.GET("/v1/traits")),
    staleTime: Infinity,
  });
  const change = useMutation({
    mutationFn: (body: { rules: Rules; traits?: string[] }) =>
      result(
        calls.PATCH("/v1/pools/{pool}", {
          params: { path: { pool: pool.name }, header: { "If-Match": pool.etag } },
          body,
        }),
      ),
    onSuccess: () => client.invalidateQueries({ queryKey: ["pools"] }),
  });
  const chosen = pool.rules.traits ?? [];
  const { accepts, allocation, largest_disk, granularity, name, machine_folders, owner, mode, no_running } = pool.rules;
  const rules = [
    ...(accepts ?? []).map((a) => `${a.format}: ${a.layouts?.join(", ") ?? "all layouts"}`),
    allocation && `only ${allocation}`,
    largest_disk && `disks up to ${size(largest_disk)} (${exact(largest_disk)})`,
    granularity && `sizes in units of ${exact(granularity)}`,
    name && `files are named ${name}`,
    machine_folders && "a folder for each machine",
    owner && `files belong to ${owner}`,
    mode && `files have the mode ${mode}`,
    no_running && "not for machines that run",
  ].filter(Boolean);
  return (
    <section className="sheet space-y-4" aria-label="What it accepts">
      <h2>What it accepts</h2>
      <fieldset>
        <legend className="text-sm">What kind of destination it is</legend>
        <div className="grid gap-x-6 gap-y-1 sm:grid-cols-2">
          {traits.data?.map((trait) => (
            <div key={trait.name}>
              <label className="flex items-center gap-2">
                <input
                  type="checkbox"
                  className="checkbox checkbox-sm"
                  checked={chosen.includes(trait.name)}
                  disabled={change.isPending}
                  onChange={({ target }) =>
                    change.mutate({
                      rules: pool.rules,
                      traits: target.checked ? [...chosen, trait.name] : chosen.filter((t) => t !== trait.name),
                    })
                  }
                />
                {trait.name}
              </label>
              <p className="pl-7 text-sm opacity-75">it {trait.about}</p>
            </div>
          ))}
        </div>
      </fieldset>
      {change.error && <Failure error={change.error} />}
      {rules.length === 0 ? (
        <p className="opacity-75">Everything.</p>
      ) : (
        <ul className="list-disc space-y-1 pl-5">
          {rules.map((rule) => (
            <li key={rule as string}>{rule}</li>
          ))}
        </ul>
      )}
      <details className="text-sm">
        <summary className="cursor-pointer">Change it one by one</summary>
        <div className="mt-3">
          <RulesForm rules={pool.rules} busy={change.isPending} change={(rules) => change.mutate({ rules })} />
        </div>
      </details>
      <p className="text-sm opacity-75">Every plan into this pool is checked against this, and offers what to do.</p>
    </section>
  );
}

function Disks({ pool, others }: { pool: string; others: string[] }) {
  const [search, setSearch] = useState("");
  const [sort, setSort] = useState<keyof typeof sorts>("path");
  const [only, setOnly] = useState<keyof typeof onlys>("");
  // The cursors of the pages up to this one; the first has none.
  const [cursors, setCursors] = useState<string[]>([]);
  const first = <T,>(set: (value: T) => void) => {
    return (value: T) => {
      set(value);
      setCursors([]);
    };
  };
  const query = {
    search,
    sort,
    descending: sort !== "path",
    only: only || undefined,
    limit: perPage,
    cursor: cursors.at(-1),
  };
  const disks = useQuery({
    queryKey: ["disks", pool, query],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/disks", { params: { path: { pool }, query } })),
    placeholderData: keepPreviousData,
    refetchInterval: (query) => (query.state.data?.refreshing ? 1000 : 5000),
  });
  const list = disks.data;
  const look = useLook(pool);
  const pages = Math.max(Math.ceil((list?.total ?? 0) / perPage), 1);
  return (
    <section className="sheet space-y-4" aria-label="Disks">
      <div className="grid items-end gap-4 sm:grid-cols-[1fr_14rem_12rem]">
        <label className="block">
          <span className="text-sm">Search</span>
          <input className="input w-full" value={search} onChange={(event) => first(setSearch)(event.target.value)} />
        </label>
        <Choice
          name="Show"
          value={only}
          options={Object.keys(onlys)}
          show={(o) => onlys[o as keyof typeof onlys]}
          change={(o) => first(setOnly)(o as keyof typeof onlys)}
        />
        <Choice
          name="By"
          value={sort}
          options={Object.keys(sorts)}
          show={(s) => sorts[s as keyof typeof sorts]}
          change={(s) => first(setSort)(s as keyof typeof sorts)}
        />
      </div>
      {disks.error && <Failure error={disks.error} />}
      {list?.problem && <Failure error={new Error(list.problem)} />}
      <ul className="divide-y divide-base-300">
        {list?.items.map((disk) => (
          <DiskRow key={disk.path} pool={pool} disk={disk} others={others} />
        ))}
      </ul>
      <div className="flex flex-wrap items-center gap-3 text-sm">
        <span>
          {list?.total ?? 0} disks, page {cursors.length + 1} of {pages}
        </span>
        <Pages cursors={cursors} next={cursors.length + 1 < pages ? list?.next : undefined} go={setCursors} />
        <span className="grow" />
        {list && <KnownAsOf list={list} />}
        <button type="button" className="btn btn-sm" disabled={look.isPending} onClick={() => look.mutate()}>
          Look again
        </button>
      </div>
      {list && list.stray_count > 0 && <Strays pool={pool} count={list.stray_count} />}
    </section>
  );
}

/** The files that belong to no disk, the first thousand of them, asked for when somebody wants to see them. */
function Strays({ pool, count }: { pool: string; count: number }) {
  const [shown, setShown] = useState(false);
  const files = useQuery({
    queryKey: ["disks", pool, "strays"],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/strays", { params: { path: { pool }, query: { limit: 1000 } } })),
    enabled: shown,
  });
  return (
    <details onToggle={(event) => setShown(event.currentTarget.open)}>
      <summary className="cursor-pointer">{count} files belong to no disk</summary>
      {files.error && <Failure error={files.error} />}
      <ul className="mt-2 space-y-1 text-sm">
        {files.data?.items.map((file) => (
          <li key={file.name} className="flex justify-between gap-4">
            <span className="break-all">{file.name}</span>
            <span className="flex shrink-0 gap-3">
              <span className="figures">{size(file.size)}</span>
              <Link className="link" to={`/remove?${new URLSearchParams({ pool, path: file.name })}`}>
                Remove
              </Link>
            </span>
          </li>
        ))}
      </ul>
    </details>
  );
}
