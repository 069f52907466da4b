import { useQuery } from "@tanstack/react-query";
import { Camera, Copy, History, Trash2 } from "lucide-react";
import { Link } from "react-router";
import { calls, items, Problem, type Machine, type Schemas } from "../api/client.ts";
import { size, when } from "../format.ts";
import { Failure } from "./failure.tsx";
import { workOf } from "./machine-actions.tsx";

type Snapshot = Schemas["Snapshot"];

/** The states of a machine that its host keeps, each behind the one that it was taken behind. */
export function Snapshots({ machine }: { machine: Machine }) {
  const name = `${machine.host}:${machine.name}`;
  const list = useQuery({
    queryKey: ["machines", machine.host, machine.name, "snapshots"],
    queryFn: () =>
      items(
        calls.GET("/v1/hosts/{host}/machines/{machine}/snapshots", {
          params: { path: { host: machine.host, machine: machine.name } },
        }),
      ),
    retry: false,
  });
  if (list.error instanceof Problem && list.error.status === 422) return null; // its kind of host keeps none
  return (
    <section className="sheet space-y-3" aria-label="Snapshots">
      <div className="flex flex-wrap items-center gap-3">
        <h2 className="grow">Snapshots</h2>
        <Link className="btn btn-sm" to={workOf({ kind: "take-snapshot", machine: name })}>
          <Camera aria-hidden className="size-4" />
          Take one
        </Link>
      </div>
      {list.error && <Failure error={list.error} />}
      {list.data?.length === 0 && <p className="opacity-75">Its host keeps no state of it.</p>}
      {list.data && list.data.length > 0 && <Behind all={list.data} of={roots(list.data)} machine={name} />}
    </section>
  );
}

/** Those that were taken behind none that is there. */
function roots(all: Snapshot[]): Snapshot[] {
  return all.filter((s) => !all.some((other) => other.name === s.parent));
}

function Behind({ all, of, machine }: { all: Snapshot[]; of: Snapshot[]; machine: string }) {
  return (
    <ul className="space-y-2 border-l border-base-300 pl-3">
      {of.map((s) => (
        <li key={s.name} className="space-y-2">
          <div className="flex flex-wrap items-center gap-x-3 gap-y-1">
            <span className="font-medium break-all">{s.name}</span>
            {s.present && <span className="badge badge-soft badge-success">the machine goes on from it</span>}
            <span className="text-sm opacity-75">
              {when(s.taken)}
              {s.memory ? ", with its memory" : ", of a machine that was off"}
              {s.room !== undefined && `, takes ${size(s.room)}`}
            </span>
            <span className="flex grow justify-end gap-2">
              <Link className="btn btn-xs" to={workOf({ kind: "go-back", machine, snapshot: s.name })}>
                <History aria-hidden className="size-3" />
                Go back
              </Link>
              <Link
                className="btn btn-xs"
                to={`/machines/move?${new URLSearchParams({ request: copied(machine, s) })}`}
              >
                <Copy aria-hidden className="size-3" />
                Copy
              </Link>
              <Link className="btn btn-xs" to={workOf({ kind: "drop-snapshot", machine, snapshot: s.name })}>
                <Trash2 aria-hidden className="size-3" />
                Drop
              </Link>
            </span>
          </div>
          {s.notes && <p className="text-sm">{s.notes}</p>}
          {all.some((other) => other.parent === s.name) && (
            <Behind all={all} of={all.filter((other) => other.parent === s.name)} machine={machine} />
          )}
        </li>
      ))}
    </ul>
  );
}

/** The request that copying a snapshot begins with. */
function copied(machine: string, s: Snapshot): string {
  return JSON.stringify({
    kind: "copy-machine",
    machine,
    snapshot: s.name,
    name: `${machine.split(":")[1]}-${s.name}`,
  });
}
