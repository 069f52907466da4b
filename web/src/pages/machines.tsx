import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ArrowRightLeft, Monitor, Power, PowerOff } from "lucide-react";
import { Link } from "react-router";
import { calls, result, type Machine } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { size } from "../format.ts";

/** The machines of all hosts that run them, as they are at present. */
export function MachinesPage() {
  const list = useQuery({
    queryKey: ["machines"],
    queryFn: () => result(calls.GET("/v1/machines")),
    refetchInterval: 5000,
  });
  const hosts = [...new Set(list.data?.items.map((m) => m.host))];
  return (
    <div className="space-y-6">
      <h1>Machines</h1>
      {list.error && <Failure error={list.error} />}
      {list.data?.away.map((host) => (
        <Failure key={host.host} error={new Error(`${host.host} could not be asked: ${host.why}`)} />
      ))}
      {list.data && hosts.length === 0 && list.data.away.length === 0 && (
        <p className="sheet">
          No machines are known. Say what runs machines on a host:
          <code className="mt-2 block">bagaglio host change local --runs libvirt --socket PATH</code>
        </p>
      )}
      {hosts.map((host) => (
        <section key={host} className="sheet space-y-3" aria-label={host}>
          <h2>{host}</h2>
          <ul className="divide-y divide-base-300">
            {list.data?.items
              .filter((m) => m.host === host)
              .map((m) => (
                <MachineRow key={m.name} machine={m} />
              ))}
          </ul>
        </section>
      ))}
    </div>
  );
}

/** The request that moving a machine begins with, as it is in the address. */
function begin(machine: Machine): string {
  const runs = machine.state === "running" ? { stop: true, start: true } : {};
  return JSON.stringify({ kind: "move-machine", machine: `${machine.host}:${machine.name}`, ...runs });
}

const colours: Record<Machine["state"], string> = {
  off: "badge-ghost",
  running: "badge-success",
  suspended: "badge-warning",
  saved: "badge-info",
  crashed: "badge-error",
  unknown: "badge-ghost",
};

function MachineRow({ machine }: { machine: Machine }) {
  const cache = useQueryClient();
  const path = { host: machine.host, machine: machine.name };
  const done = { onSettled: () => cache.invalidateQueries({ queryKey: ["machines"] }) };
  const start = useMutation({
    mutationFn: () => result(calls.POST("/v1/hosts/{host}/machines/{machine}/start", { params: { path } })),
    ...done,
  });
  const stop = useMutation({
    mutationFn: (cutOff: boolean) =>
      result(
        calls.POST("/v1/hosts/{host}/machines/{machine}/stop", {
          params: { path },
          body: cutOff ? { within: 0, cut_off: true } : { within: 120 },
        }),
      ),
    ...done,
  });
  const runs = machine.state === "running" || machine.state === "suspended";
  const busy = start.isPending || stop.isPending;
  const screen = `/v1/hosts/${encodeURIComponent(machine.host)}/machines/${encodeURIComponent(machine.name)}/screen`;
  return (
    <li className="space-y-2 py-3">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <span className="text-lg font-semibold">{machine.name}</span>
        <span className={`badge badge-soft ${colours[machine.state]}`}>{machine.state}</span>
        <span className="text-sm opacity-75">
          {machine.is && `${machine.is.firmware}, ${size(machine.is.memory)}, `}
          {machine.processors === 1 ? "1 processor" : `${machine.processors ?? "?"} processors`}
        </span>
        <span className="grow" />
        <Link className="btn btn-sm" to={`/machines/move?${new URLSearchParams({ request: begin(machine) })}`}>
          <ArrowRightLeft aria-hidden className="size-4" />
          Move or copy
        </Link>
        {!runs && (
          <button type="button" className="btn btn-sm" disabled={busy} onClick={() => start.mutate()}>
            <Power aria-hidden className="size-4" />
            Start {machine.name}
          </button>
        )}
        {runs && (
          <>
            <a className="btn btn-sm" href={screen} target="_blank" rel="noreferrer">
              <Monitor aria-hidden className="size-4" />
              Screen
            </a>
            <button type="button" className="btn btn-sm" disabled={busy} onClick={() => stop.mutate(false)}>
              <PowerOff aria-hidden className="size-4" />
              {stop.isPending ? "Waits for its end" : `Shut down ${machine.name}`}
            </button>
            {stop.error && (
              <button
                type="button"
                className="btn btn-sm"
                onClick={() => window.confirm(`Take the power of ${machine.name} away?`) && stop.mutate(true)}
              >
                Cut off
              </button>
            )}
          </>
        )}
      </div>
      {machine.problem && <Failure error={new Error(machine.problem)} />}
      {(start.error ?? stop.error) && <Failure error={(start.error ?? stop.error) as Error} />}
      <ul className="space-y-1 text-sm">
        {machine.disks.map((disk) => (
          <li key={`${disk.slot} ${disk.file} ${disk.volume}`} className="flex flex-wrap gap-x-3 break-all">
            <span className="opacity-75">
              {disk.bus} {disk.slot}
            </span>
            {disk.pool && disk.path ? (
              <Link className="link" to={`/disk?${new URLSearchParams({ pool: disk.pool, path: disk.path })}`}>
                {disk.pool}:{disk.path}
              </Link>
            ) : (
              <span>{disk.file ?? disk.remote ?? `${disk.host_pool}/${disk.volume}`}</span>
            )}
            <span className="opacity-75">
              {disk.format}
              {disk.virtual_size !== undefined && `, ${size(disk.virtual_size)}`}
            </span>
          </li>
        ))}
      </ul>
    </li>
  );
}
