import { useQuery } from "@tanstack/react-query";
import { TriangleAlert } from "lucide-react";
import { useState } from "react";
import { calls, result, type Schemas } from "../api/client.ts";
import { Failure } from "./failure.tsx";

/** What a disk starts from: it is looked for when somebody wants to know. */
export function Starts({ pool, path }: { pool: string; path: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details className="sheet" onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer text-lg font-semibold">What starts from it</summary>
      {open && <Found pool={pool} path={path} />}
    </details>
  );
}

function Found({ pool, path }: { pool: string; path: string }) {
  const starts = useQuery({
    queryKey: ["starts", pool, path],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/starts", { params: { path: { pool }, query: { path } } })),
    retry: false,
  });
  if (starts.error) return <Failure error={starts.error} />;
  if (!starts.data) return <p className="mt-3 opacity-75">Looking.</p>;
  const { firmware, loaders, systems, findings } = starts.data;
  return (
    <div className="mt-3 space-y-3">
      <p>
        {firmware.length > 0
          ? `Found by ${firmware.map((f) => f.toUpperCase()).join(" and ")}${loaders.length > 0 ? `: ${loaders.join(", ")}` : ""}.`
          : "No firmware finds something to start on it."}
      </p>
      {systems.length === 0 && <p className="opacity-75">No system is known on it.</p>}
      {systems.map((s) => (
        <SystemOn key={`${s.partition} ${s.volume ?? ""}`} system={s} />
      ))}
      {findings.map((f) => (
        <p key={f.what} className="flex gap-2">
          <TriangleAlert aria-hidden className="mt-0.5 size-5 shrink-0 text-warning" />
          <span>
            {f.what} {f.do}
          </span>
        </p>
      ))}
    </div>
  );
}

type SystemOf = Schemas["Starts"]["systems"][number];

function SystemOn({ system }: { system: SystemOf }) {
  return (
    <dl className="grid grid-cols-[auto_1fr] gap-x-4 gap-y-1">
      <dt className="opacity-75">System</dt>
      <dd>
        {system.name || system.kind}, on{" "}
        {system.volume || (system.partition ? `partition ${system.partition}` : "the disk")}
      </dd>
      {(system.root ?? []).length > 0 && (
        <>
          <dt className="opacity-75">Runs from</dt>
          <dd>{system.root?.join(", ")}</dd>
        </>
      )}
      {system.kernels?.map((k) => (
        <KernelOf key={k.version} kernel={k} />
      ))}
      {(system.networks ?? []).length > 0 && (
        <>
          <dt className="opacity-75">Network cards</dt>
          <dd>{system.networks?.join(", ")}</dd>
        </>
      )}
    </dl>
  );
}

function KernelOf({ kernel }: { kernel: NonNullable<SystemOf["kernels"]>[number] }) {
  return (
    <>
      <dt className="opacity-75">Kernel {kernel.version}</dt>
      <dd>
        {kernel.unknown ??
          (kernel.buses.length > 0 ? `drivers for ${kernel.buses.join(", ")}` : "no driver for any bus of disks")}
      </dd>
    </>
  );
}
