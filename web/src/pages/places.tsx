import { useQuery } from "@tanstack/react-query";
import { Archive, RefreshCw, Scale, ServerCog } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate } from "react-router";
import { calls, items, result, type Held, type Pool } from "../api/client.ts";
import { composing, dragged, DiskRow } from "../components/disk-row.tsx";
import { Failure } from "../components/failure.tsx";
import { Fill } from "../components/fill.tsx";
import { KnownAsOf, useLook } from "../components/looking.tsx";
import { Served } from "../components/served.tsx";

/** How many disks of a pool are shown here: those that take most of it. */
const shown = 6;

/** All pools, how full they are, and what fills them. A disk is dragged to another pool to be moved there. */
export function PlacesPage() {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const held = useQuery({ queryKey: ["held"], queryFn: () => items(calls.GET("/v1/held")) });
  const names = pools.data?.map((pool) => pool.name) ?? [];
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1>Places</h1>
        <span className="flex flex-wrap gap-2">
          <Link className="btn btn-sm btn-outline" to="/balance">
            <Scale aria-hidden className="size-4" />
            Drain or spread
          </Link>
          <Link className="btn btn-sm btn-outline" to="/held">
            <Archive aria-hidden className="size-4" />
            Held files
          </Link>
          <Link className="btn btn-sm btn-outline" to="/hosts">
            <ServerCog aria-hidden className="size-4" />
            Hosts and new pools
          </Link>
        </span>
      </div>
      {pools.error && <Failure error={pools.error} />}
      <Served />
      {pools.data?.length === 0 && (
        <div className="sheet">
          <p>There is no pool yet. A pool is a folder in which disks lie, here or on another host:</p>
          <pre className="figures mt-3 rounded-field bg-base-200 p-3">bagaglio pool add NAME FOLDER</pre>
        </div>
      )}
      {pools.data?.map((pool) => (
        <PoolSheet key={pool.name} pool={pool} held={held.data ?? []} names={names} />
      ))}
    </div>
  );
}

function PoolSheet({ pool, held, names }: { pool: Pool; held: Held[]; names: string[] }) {
  const disks = useQuery({
    queryKey: ["disks", pool.name, "largest"],
    queryFn: () =>
      result(
        calls.GET("/v1/pools/{pool}/disks", {
          params: { path: { pool: pool.name }, query: { sort: "room", descending: true, limit: shown } },
        }),
      ),
    enabled: pool.reachable,
    refetchInterval: (query) => (query.state.data?.refreshing ? 1000 : 5000),
  });
  const list = disks.data;
  const look = useLook(pool.name);
  const heldHere = held.filter((h) => h.pool === pool.name).reduce((sum, h) => sum + h.room, 0);
  return (
    <DropTarget pool={pool.name}>
      <div className={`flex flex-wrap items-start gap-x-6 gap-y-3 ${list?.total ? "mb-3" : ""}`}>
        <div className="min-w-44">
          <h2>
            <Link className="link" to={`/pool?${new URLSearchParams({ name: pool.name })}`}>
              {pool.name}
            </Link>
          </h2>
          <p className="text-sm opacity-75">
            on {pool.host}, {pool.reachable ? pool.filesystem : "not reachable"}
            {pool.read_only && pool.reachable && ", read-only"}
            {pool.facts?.removable && ", removable"}
            {list?.total === 0 && ", no disks"}
          </p>
          {pool.rules.traits && <p className="text-sm opacity-75">{pool.rules.traits.join(", ")}</p>}
        </div>
        {pool.reachable && (
          <Fill name={pool.name} total={pool.total} free={pool.free} disks={list?.room} held={heldHere} />
        )}
        <span className="grow" />
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          aria-label={`Look at ${pool.name} again`}
          onClick={() => look.mutate()}
        >
          <RefreshCw aria-hidden className={`size-4 ${look.isPending || list?.refreshing ? "animate-spin" : ""}`} />
        </button>
      </div>
      {pool.problem && <Failure error={new Error(pool.problem)} />}
      {disks.error && <Failure error={disks.error} />}
      {list && <KnownAsOf list={list} />}
      <ul className="divide-y divide-base-300">
        {list?.items.map((disk) => (
          <DiskRow key={disk.path} pool={pool.name} disk={disk} others={names.filter((n) => n !== pool.name)} />
        ))}
      </ul>
      {list && list.total > shown && (
        <Link className="link text-sm" to={`/pool?${new URLSearchParams({ name: pool.name })}`}>
          All {list.total} disks
        </Link>
      )}
    </DropTarget>
  );
}

/** A sheet that a disk can be dropped on, which opens the composing page with the move filled in. */
function DropTarget({ pool, children }: { pool: string; children: React.ReactNode }) {
  const [over, setOver] = useState(false);
  const navigate = useNavigate();
  return (
    <section
      className={`sheet ${over ? "outline-3 outline-accent" : ""}`}
      aria-label={pool}
      onDragOver={(event) => {
        if (!event.dataTransfer.types.includes(dragged)) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        setOver(false);
        const disk = JSON.parse(event.dataTransfer.getData(dragged) || "null");
        if (disk && disk.pool !== pool) navigate(composing(disk.pool, disk.path, "move", pool));
      }}
    >
      {children}
    </section>
  );
}
