import { useMutation, useQueryClient } from "@tanstack/react-query";
import { ArrowRightLeft, Monitor, Power, PowerOff } from "lucide-react";
import { Link } from "react-router";
import { calls, result, type AnyRequest, type Machine } from "../api/client.ts";
import { Failure } from "./failure.tsx";

/** The request that moving a machine begins with, as it is in the address. */
function begin(machine: Machine): string {
  const runs = machine.state === "running" ? { stop: true, start: true } : {};
  return JSON.stringify({ kind: "move-machine", machine: `${machine.host}:${machine.name}`, ...runs });
}

/** The address of the page on which work with a machine is planned. */
export function workOf(request: AnyRequest): string {
  return `/machines/work?${new URLSearchParams({ request: JSON.stringify(request) })}`;
}

const colours: Record<Machine["state"], string> = {
  off: "badge-ghost",
  running: "badge-success",
  suspended: "badge-warning",
  saved: "badge-info",
  crashed: "badge-error",
  unknown: "badge-ghost",
};

export function MachineState({ machine }: { machine: Machine }) {
  return <span className={`badge badge-soft ${colours[machine.state]}`}>{machine.state}</span>;
}

/** The address of what a machine shows. */
export function screenOf(machine: Machine): string {
  return `/v1/hosts/${encodeURIComponent(machine.host)}/machines/${encodeURIComponent(machine.name)}/screen`;
}

/** Whether there is something to be seen on its screen. */
export function isOn(machine: Machine): boolean {
  return machine.state === "running" || machine.state === "suspended";
}

/** What can be done with a machine as it is now. */
export function MachineActions({ machine }: { machine: Machine }) {
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
  const busy = start.isPending || stop.isPending;
  return (
    <>
      <div className="flex flex-wrap gap-2">
        <Link className="btn btn-sm" to={`/machines/move?${new URLSearchParams({ request: begin(machine) })}`}>
          <ArrowRightLeft aria-hidden className="size-4" />
          Move or copy
        </Link>
        {!isOn(machine) && (
          <button type="button" className="btn btn-sm" disabled={busy} onClick={() => start.mutate()}>
            <Power aria-hidden className="size-4" />
            Start {machine.name}
          </button>
        )}
        {isOn(machine) && (
          <>
            <a className="btn btn-sm" href={screenOf(machine)} target="_blank" rel="noreferrer">
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
    </>
  );
}
