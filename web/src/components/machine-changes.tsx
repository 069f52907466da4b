import { useQuery } from "@tanstack/react-query";
import { calls, result, type AnyRequest } from "../api/client.ts";
import { Choice } from "./choice.tsx";

type Props = {
  request: AnyRequest;
  change: (patch: Record<string, unknown>) => void;
  pools: string[];
};

const mebi = 1024 * 1024;
const identities = ["", "keep", "new"];
const identityNames: Record<string, string> = {
  "": "As usual: a copy on a host gets a new one",
  keep: "Keep UUID and network addresses",
  new: "New UUID and network addresses",
};
const buses = ["", "virtio", "scsi", "sata", "ide"];

/** What a machine is to be in its new place that it is not now, and where each of its disks goes. */
export function MachineChanges({ request, change, pools }: Props) {
  const [host = "", ...rest] = (request.machine ?? "").split(":");
  const machine = useQuery({
    queryKey: ["machines", host, rest.join(":")],
    queryFn: () =>
      result(calls.GET("/v1/hosts/{host}/machines/{machine}", { params: { path: { host, machine: rest.join(":") } } })),
    enabled: Boolean(request.machine),
  });
  const is = machine.data?.is;
  const wanted = request.changes ?? {};
  const set = (patch: Record<string, unknown>) => change({ changes: patch });
  return (
    <details className="space-y-4">
      <summary className="cursor-pointer">Change something on its way</summary>
      <div className="mt-3 grid gap-4 sm:grid-cols-2">
        <NumberField
          name="Processors"
          value={wanted.processors}
          hint={is ? String(is.processors.count) : ""}
          change={(processors) => set({ processors })}
        />
        <NumberField
          name="Memory, MiB"
          value={wanted.memory && wanted.memory / mebi}
          hint={is ? String(is.memory / mebi) : ""}
          change={(memory) => set({ memory: memory && memory * mebi })}
        />
        <Choice
          name="Firmware"
          value={wanted.firmware ?? ""}
          options={["", "bios", "uefi"]}
          show={(f) => f || `As it is${is ? `: ${is.firmware}` : ""}`}
          change={(firmware) => set({ firmware: firmware || null })}
        />
        <Choice
          name="Bus of its disks"
          value={wanted.buses?.["all"] ?? ""}
          options={buses}
          show={(b) => b || "As they are"}
          change={(bus) => set({ buses: { all: bus || null } })}
        />
      </div>
      <Choice
        name="Identity"
        value={request.identity ?? ""}
        options={identities}
        show={(i) => identityNames[i] ?? i}
        change={(identity) => change({ identity: identity || null })}
      />
      {machine.data && machine.data.disks.length > 1 && (
        <div className="space-y-3">
          {machine.data.disks.map((disk, i) => (
            <DiskPlace
              key={disk.slot ?? i}
              slot={disk.slot ?? String(i + 1)}
              request={request}
              change={change}
              pools={pools}
            />
          ))}
        </div>
      )}
    </details>
  );
}

const leave = "\u0000leave"; // no pool is called so

function DiskPlace({ slot, request, change, pools }: Props & { slot: string }) {
  const choice = request.disks?.[slot];
  return (
    <Choice
      name={`Disk ${slot} goes`}
      value={choice?.leave ? leave : (choice?.pool ?? "")}
      options={["", ...pools, leave]}
      show={(pool) => (pool === leave ? "nowhere: it stays" : pool ? `into ${pool}` : "where the others go")}
      change={(pool) =>
        change({
          disks: {
            [slot]:
              pool === leave
                ? { leave: true, pool: null, path: null }
                : pool
                  ? { pool, path: request.name ?? request.machine?.split(":").slice(1).join(":") ?? "", leave: null }
                  : null,
          },
        })
      }
    />
  );
}

type NumberProps = { name: string; value?: number; hint: string; change: (value: number | null) => void };

function NumberField({ name, value, hint, change }: NumberProps) {
  return (
    <label className="block">
      <span className="text-sm">{name}</span>
      <input
        className="input w-full"
        type="number"
        min={1}
        value={value ?? ""}
        placeholder={hint}
        onChange={(event) => change(Number(event.target.value) || null)}
      />
    </label>
  );
}
