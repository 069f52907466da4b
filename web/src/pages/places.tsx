import { useQuery } from "@tanstack/react-query";
import { ArrowRightLeft, RefreshCw } from "lucide-react";
import { Link } from "react-router";
import { calls, result, type DiskEntry, type Pool } from "../api/client.ts";
import { useFollow } from "../api/follow.ts";
import { Failure } from "../components/failure.tsx";
import { Sizes } from "../components/sizes.tsx";
import { exact, size } from "../format.ts";

/** All pools, how full they are, and the disks in them. */
export function PlacesPage() {
  useFollow();
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => result(calls.GET("/v1/pools")) });
  return (
    <div className="space-y-6">
      <h1>Places</h1>
      {pools.error && <Failure error={pools.error} />}
      {pools.data?.length === 0 && (
        <div className="sheet">
          <p>There is no pool yet. A pool is a folder in which disks lie:</p>
          <pre className="figures mt-3 rounded-field bg-base-200 p-3">bagaglio pool add NAME FOLDER</pre>
        </div>
      )}
      {pools.data?.map((pool) => (
        <PoolSheet key={pool.name} pool={pool} />
      ))}
    </div>
  );
}

function PoolSheet({ pool }: { pool: Pool }) {
  const disks = useQuery({
    queryKey: ["disks", pool.name],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/disks", { params: { path: { pool: pool.name } } })),
    enabled: pool.reachable,
  });
  const used = pool.total - pool.free;
  return (
    <section className="sheet" aria-label={pool.name}>
      <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
        <h2>{pool.name}</h2>
        <span className="text-sm opacity-75">
          on {pool.host}, {pool.reachable ? pool.filesystem : "not reachable"}
          {pool.read_only && pool.reachable && ", read-only"}
        </span>
        <span className="grow" />
        {pool.reachable && (
          <span className="flex items-center gap-3" title={`${exact(pool.free)} free of ${exact(pool.total)}`}>
            <progress
              className={`progress w-40 ${pool.free < pool.total / 10 ? "progress-warning" : "progress-secondary"}`}
              value={used}
              max={pool.total}
              aria-label={`How full ${pool.name} is`}
            />
            <span className="figures">{size(pool.free)} free</span>
          </span>
        )}
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          aria-label={`Look at ${pool.name} again`}
          onClick={() => disks.refetch()}
        >
          <RefreshCw aria-hidden className={`size-4 ${disks.isFetching ? "animate-spin" : ""}`} />
        </button>
      </div>
      {pool.problem && <Failure error={new Error(pool.problem)} />}
      {disks.error && <Failure error={disks.error} />}
      {disks.data?.length === 0 && <p className="opacity-75">No disks here.</p>}
      <ul className="divide-y divide-base-300">
        {disks.data?.map((disk) => (
          <DiskRow key={disk.path} pool={pool.name} disk={disk} />
        ))}
      </ul>
    </section>
  );
}

function DiskRow({ pool, disk }: { pool: string; disk: DiskEntry }) {
  const query = `pool=${encodeURIComponent(pool)}&path=${encodeURIComponent(disk.path)}`;
  return (
    <li className="grid items-center gap-x-6 gap-y-2 py-3 sm:grid-cols-[1fr_20rem_auto]">
      <div className="min-w-0">
        <Link className="link font-medium break-all" to={`/disk?${query}`}>
          {disk.path}
        </Link>
        <p className="text-sm opacity-75">
          {disk.format}
          {disk.layout && `, ${disk.layout}`}
        </p>
        {disk.problem && <p className="text-sm text-error">{disk.problem}</p>}
      </div>
      {disk.problem ? (
        <span className="figures">{size(disk.file_size)}</span>
      ) : (
        <Sizes virtual={disk.virtual_size} allocated={disk.allocated_size} file={disk.file_size} />
      )}
      <Link className="btn btn-sm" to={`/compose?${query}`} aria-label={`Convert ${disk.path}`}>
        <ArrowRightLeft aria-hidden className="size-4" />
        Convert
      </Link>
    </li>
  );
}
