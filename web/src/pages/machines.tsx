import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { Link, useSearchParams } from "react-router";
import { calls, result, type Machine } from "../api/client.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { MachineActions, MachineState } from "../components/machine-actions.tsx";
import { MachineFindings } from "../components/machine-findings.tsx";
import { MachineDisks } from "../components/machine-disks.tsx";
import { size } from "../format.ts";

/** The machines of all hosts that run them, as they are at present. */
export function MachinesPage() {
  const list = useQuery({
    queryKey: ["machines"],
    queryFn: () => result(calls.GET("/v1/machines")),
    refetchInterval: 5000,
  });
  const [search, setSearch] = useSearchParams();
  const [{ state, text }, setFilter] = useState({ state: search.get("state") ?? "", text: search.get("text") ?? "" });
  const shown = list.data?.items.filter(
    (m) => (!state || m.state === state) && `${m.host}:${m.name}`.toLowerCase().includes(text.toLowerCase()),
  );
  const look = (name: "state" | "text", value: string) => setFilter((now) => ({ ...now, [name]: value })); // however fast somebody is
  const written = new URLSearchParams(Object.entries({ state, text }).filter(([, value]) => value)).toString();
  useEffect(() => {
    if (search.toString() !== written) setSearch(written, { replace: true });
  }, [search, setSearch, written]);
  const [chosen, setChosen] = useState<string[]>([]);
  const choose = (name: string) =>
    setChosen((now) => (now.includes(name) ? now.filter((n) => n !== name) : [...now, name]));
  const hosts = [...new Set(shown?.map((m) => m.host))];
  return (
    <div className="space-y-6">
      <h1>Machines</h1>
      {list.error && <Failure error={list.error} />}
      {list.data?.away.map((host) => (
        <Failure key={host.host} error={new Error(`${host.host} could not be asked: ${host.why}`)} />
      ))}
      {list.data && list.data.items.length > 0 && (
        <div className="flex flex-wrap items-end gap-4">
          <label className="block">
            <span className="block text-sm">Search</span>
            <input className="input w-56" value={text} onChange={(event) => look("text", event.target.value)} />
          </label>
          <Choice
            name="State"
            value={state}
            options={["", ...new Set(list.data.items.map((m) => m.state))]}
            show={(s) => s || "any"}
            change={(s) => look("state", s)}
          />
          <p className="pb-2 text-sm opacity-75">
            {shown?.length} of {list.data.items.length} machines
          </p>
        </div>
      )}
      {list.data?.items.length === 0 && list.data.away.length === 0 && (
        <p className="sheet">
          No machines are known. Say what runs machines on a host:
          <code className="mt-2 block">bagaglio host change local --runs libvirt --socket PATH</code>
        </p>
      )}
      <MachineFindings />
      {chosen.length > 0 && (
        <div className="sheet flex flex-wrap items-center gap-3" aria-label="Chosen">
          <span>{chosen.length === 1 ? "1 machine is chosen" : `${chosen.length} machines are chosen`}</span>
          <Link
            className="btn btn-primary btn-sm"
            to={`/machines/many?${new URLSearchParams(chosen.map((name) => ["machine", name]))}`}
          >
            Move or copy all of them
          </Link>
        </div>
      )}
      {hosts.map((host) => (
        <section key={host} className="sheet space-y-3" aria-label={host}>
          <h2>{host}</h2>
          <ul className="divide-y divide-base-300">
            {shown
              ?.filter((m) => m.host === host)
              .map((m) => (
                <MachineRow key={m.name} machine={m} chosen={chosen.includes(`${m.host}:${m.name}`)} choose={choose} />
              ))}
          </ul>
        </section>
      ))}
    </div>
  );
}

type RowProps = { machine: Machine; chosen: boolean; choose: (name: string) => void };

function MachineRow({ machine, chosen, choose }: RowProps) {
  return (
    <li className="space-y-2 py-3 [contain-intrinsic-size:auto_6rem] [content-visibility:auto]">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-2">
        <label className="flex">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={chosen}
            onChange={() => choose(`${machine.host}:${machine.name}`)}
          />
          <span className="sr-only">Choose {machine.name}</span>
        </label>
        <Link
          className="link text-lg font-semibold break-all"
          to={`/machines/${encodeURIComponent(machine.host)}/${encodeURIComponent(machine.name)}`}
        >
          {machine.name}
        </Link>
        <MachineState machine={machine} />
        <span className="text-sm opacity-75">
          {machine.is && `${machine.is.container ? "container" : machine.is.firmware}, ${size(machine.is.memory)}, `}
          {machine.processors === 1 ? "1 processor" : `${machine.processors ?? "?"} processors`}
        </span>
        <span className="grow" />
        <MachineActions machine={machine} />
      </div>
      <MachineDisks disks={machine.disks} />
    </li>
  );
}
