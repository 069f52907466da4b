import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { calls, items, result } from "../api/client.ts";
import { exact, size, speed, when } from "../format.ts";
import { Failure } from "./failure.tsx";

const everyMs = 2000;

type Export = Awaited<ReturnType<typeof list>>[number];

/** What is served, when that was asked, and how much is read of it a second, by the address of who reads. */
type Now = { all: Export[]; at: number; speeds: Map<string, number> };

const list = () => items(calls.GET("/v1/exports"));

const clients = (all: Export[]) =>
  new Map(all.flatMap((x) => x.clients.map((c) => [`${x.id} ${c.address}`, c.bytes] as const)));

function since(before: Now | undefined, all: Export[], at: number): Now {
  const read = clients(before?.all ?? []);
  const speeds = new Map<string, number>();
  for (const [who, bytes] of clients(all)) {
    const then = read.get(who);
    if (before && then !== undefined) speeds.set(who, ((bytes - then) * 1000) / (at - before.at));
  }
  return { all, at, speeds };
}

/** The disks that are served for others to read, with who reads how much and how fast. Nothing where there are none. */
export function Served() {
  const client = useQueryClient();
  const served = useQuery({
    queryKey: ["exports"],
    queryFn: async () => since(client.getQueryData(["exports"]), await list(), Date.now()),
    structuralSharing: false,
    refetchInterval: everyMs,
  });
  const stop = useMutation({
    mutationFn: (id: string) => result(calls.DELETE("/v1/exports/{export}", { params: { path: { export: id } } })),
    onSuccess: () => served.refetch(),
  });
  const { all = [], speeds } = served.data ?? {};
  if (served.error) return <Failure error={served.error} />;
  if (all.length === 0) return null;
  return (
    <section className="sheet" aria-label="Served disks">
      <h2>Served for others to read</h2>
      {stop.error && <Failure error={stop.error} />}
      <ul className="mt-2 divide-y divide-base-300">
        {all.map((x) => (
          <li key={x.id} className="flex flex-wrap items-start gap-x-6 gap-y-1 py-2">
            <div className="min-w-64 grow">
              <p className="figures">
                {x.disk.pool}:{x.disk.path}
              </p>
              <p className="text-sm opacity-75">
                at <span className="figures">{x.at}</span>, as the export <span className="figures">disk</span>, since{" "}
                {when(x.since)}
              </p>
              {x.problem && <p className="text-sm text-error">Not served any more: {x.problem}</p>}
              {x.clients.length === 0 && !x.problem && <p className="text-sm opacity-75">Nobody reads it now.</p>}
              {x.clients.map((c) => (
                <p key={c.address} className="text-sm">
                  <span className="figures">{c.address || "this computer"}</span> has read{" "}
                  <span title={exact(c.bytes)}>{size(c.bytes)}</span>, {speed(speeds?.get(`${x.id} ${c.address}`) ?? 0)}
                </p>
              ))}
            </div>
            <button type="button" className="btn btn-sm" disabled={stop.isPending} onClick={() => stop.mutate(x.id)}>
              End it
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
