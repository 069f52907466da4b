import { useQuery } from "@tanstack/react-query";
import { Server } from "lucide-react";
import { Link } from "react-router";
import { calls, result, type Schemas } from "../api/client.ts";
import { exact, size } from "../format.ts";

type Kin = Schemas["Kin"];

/** What a disk stands on, and all that stands on that, as a tree. A disk that stands alone has none. */
export function Family({ pool, path }: { pool: string; path: string }) {
  const family = useQuery({
    queryKey: ["disks", "family", pool, path],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/family", { params: { path: { pool }, query: { path } } })),
    retry: false,
  });
  const all = family.data?.items ?? [];
  if (all.length < 2) return null;
  return (
    <section className="sheet space-y-3" aria-label="Family">
      <h2>What stands on what</h2>
      <Standing on={undefined} all={all} pool={pool} asked={path} />
      {family.data?.away.map((h) => (
        <p key={h.host} className="text-sm">
          Host {h.host} cannot be asked ({h.why}): what its machines name is not known.
        </p>
      ))}
    </section>
  );
}

function Standing({ on, all, pool, asked }: { on: string | undefined; all: Kin[]; pool: string; asked: string }) {
  const here = all.filter((k) => k.base === on);
  if (here.length === 0) return null;
  return (
    <ul className={on === undefined ? "" : "ml-3 border-l-2 border-base-300 pl-4"}>
      {here.map((k) => (
        <li key={`${k.pool ?? ""}:${k.path}`} className="py-1">
          <div className="flex flex-wrap items-baseline gap-x-3">
            {k.path === asked && !k.pool ? (
              <b aria-current="true" className="break-all">
                {k.path}
              </b>
            ) : (
              <Link
                className="link break-all"
                to={`/disk?${new URLSearchParams({ pool: k.pool ?? pool, path: k.path })}`}
              >
                {k.pool ? `${k.pool}:${k.path}` : k.path}
              </Link>
            )}
            {k.called && <span className="font-medium">{k.called}</span>}
            <span className="text-sm opacity-75">
              {k.format}, {k.layout}
            </span>
            <span className="figures text-sm opacity-75" title={exact(k.room)}>
              {size(k.room)}
            </span>
            {k.machines.length > 0 && (
              <span className="flex items-center gap-1.5 text-sm">
                <Server aria-label="Machines" className="size-4" />
                {k.machines.join(", ")}
              </span>
            )}
            {k.problem && <span className="text-sm text-error">{k.problem}</span>}
          </div>
          {!k.pool && <Standing on={k.path} all={all} pool={pool} asked={asked} />}
        </li>
      ))}
    </ul>
  );
}
