import { useQuery } from "@tanstack/react-query";
import { useSearchParams } from "react-router";
import { calls, items, type AnyRequest, type Schemas } from "../api/client.ts";
import { mend } from "../api/mend.ts";
import { useRequest } from "../api/request.ts";
import { Choice } from "../components/choice.tsx";
import { DoneBy } from "../components/done-by.tsx";
import { Failure } from "../components/failure.tsx";
import { Outlook } from "../components/outlook.tsx";
import { calledPart, PartitionStrip, type Device } from "../components/partition-strip.tsx";
import { SizeField } from "../components/size-field.tsx";
import { size } from "../format.ts";

/** Capturing a disk of a computer: what of it travels, beside what would happen. The request is in the address. */
export function CapturePage() {
  const [search] = useSearchParams();
  const name = search.get("device") ?? "";
  const [request, setRequest] = useRequest(() => begin(name), "device");
  const change = (patch: Record<string, unknown>) => setRequest((now) => mend(now, { label: "", change: patch }));
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => items(calls.GET("/v1/devices")) });
  const plan = useQuery<Schemas["KeptPlan"]>({ queryKey: ["plan", request], enabled: false }); // that the outlook asks for
  const device = devices.data?.find((d) => `${d.host}:${d.path}` === name);
  return (
    <div className="space-y-6">
      <h1 className="break-all">Capture {name}</h1>
      {devices.error && <Failure error={devices.error} />}
      {devices.data && !device && <p>There is no such disk. It may have been unplugged.</p>}
      {device && (
        <>
          <section className="sheet" aria-label="What travels">
            <PartitionStrip device={device} left={(request.without ?? []).map(Number)} fit={plan.data?.plan.fit} />
          </section>
          <div className="grid items-start gap-6 md:grid-cols-2">
            <form className="sheet space-y-5" onSubmit={(event) => event.preventDefault()}>
              <Fields device={device} request={request} change={change} />
            </form>
            <Outlook
              request={request}
              complete={Boolean(request.destination?.pool && (request.to || request.destination.path))}
              current
              hint="Choose a pool: the plan appears here."
              onRemedy={(remedy) => change(remedy.change)}
            />
          </div>
        </>
      )}
    </div>
  );
}

/** The request that is begun with a disk. */
function begin(device: string): AnyRequest {
  const [host, path = ""] = device.split(":/dev/");
  return {
    kind: "convert",
    as: "qcow2",
    used_only: true,
    source: { pool: `${host}:/dev`, path },
    destination: { pool: "", path: `${path}.qcow2` },
  };
}

/** What changes in the request when the disk becomes a machine on a host, or an image where none is named. */
function becomes(host: string, name: string): Record<string, unknown> {
  if (host)
    return { kind: "copy-machine", to: host, as: null, layout: null, start: true, destination: { pool: "", path: "" } };
  return {
    kind: "convert",
    to: null,
    as: "qcow2",
    name: null,
    start: null,
    fit: null,
    identity: null,
    changes: null,
    networks: null,
    disks: null,
    destination: { pool: "", path: `${name}.qcow2` },
  };
}

type FieldsProps = { device: Device; request: AnyRequest; change: (patch: Record<string, unknown>) => void };

function Fields({ device, request, change }: FieldsProps) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => items(calls.GET("/v1/formats")),
    staleTime: Infinity,
  });
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => items(calls.GET("/v1/hosts")) });
  const runs = hosts.data?.filter((h) => h.runs).map((h) => h.name) ?? [];
  const left = request.without ?? [];
  const to = request.destination ?? { pool: "", path: "" };
  const setFormat = (as: string) => {
    const extension = formats.data?.find((f) => f.name === as)?.extension ?? "";
    change({ as, layout: null, destination: { ...to, path: to.path.replace(/\.[^.]*$/, "") + extension } });
  };
  return (
    <>
      <fieldset>
        <legend className="font-semibold">Partitions that travel</legend>
        <p className="mb-2 text-sm opacity-75">The partition table and the boot code always do.</p>
        {device.partitions.map((p) => (
          <label key={p.number} className="flex items-center gap-3 py-1">
            <input
              type="checkbox"
              className="checkbox checkbox-sm"
              checked={!left.includes(String(p.number))}
              disabled={p.number === 0}
              onChange={(event) => {
                const next = event.target.checked
                  ? left.filter((n) => n !== String(p.number))
                  : [...left, String(p.number)];
                change({ without: next.length > 0 ? next : null });
              }}
            />
            <span>
              {calledPart(p)} <span className="figures text-sm opacity-75">{size(p.length)}</span>
            </span>
          </label>
        ))}
      </fieldset>
      <label className="flex items-center gap-3">
        <input
          type="checkbox"
          className="toggle"
          checked={Boolean(request.used_only)}
          onChange={(event) => change({ used_only: event.target.checked || null })}
        />
        <span>Read only what filesystems use</span>
      </label>
      <SizeField
        bytes={request.size}
        smallest={request.smallest}
        change={(bytes, smallest) => change({ size: bytes, smallest })}
      />
      <Choice
        name="Becomes"
        value={request.to ?? ""}
        options={["", ...runs]}
        show={(host) => (host ? `a machine on ${host}` : "an image")}
        change={(host) => change(becomes(host, device.path.replace("/dev/", "")))}
      />
      <Choice
        name={request.to ? "Pool of its disk" : "Pool of the image"}
        value={to.pool ?? ""}
        options={(pools.data ?? []).filter((p) => !request.to || p.host === request.to).map((p) => p.name)}
        show={(pool) => pool || "Choose one"}
        change={(pool) => change({ destination: { ...to, pool } })}
      />
      <DoneBy by={request.by} change={(by) => change({ by: by ?? null })} />
      {request.to ? (
        <>
          <label className="block">
            <span className="text-sm">Name of the machine</span>
            <input
              className="input w-full"
              value={request.name ?? ""}
              placeholder="as the computer"
              onChange={(event) => change({ name: event.target.value || null })}
            />
          </label>
          <label className="flex items-center gap-3">
            <input
              type="checkbox"
              className="toggle"
              checked={Boolean(request.start)}
              onChange={(event) => change({ start: event.target.checked || null })}
            />
            <span>Start it, and see it come up</span>
          </label>
          <label className="flex items-center gap-3">
            <input
              type="checkbox"
              className="toggle"
              checked={Boolean(request.fit)}
              onChange={(event) => change({ fit: event.target.checked || null })}
            />
            <span>Fit its guest to its new place, on the copy</span>
          </label>
        </>
      ) : (
        <>
          <label className="block">
            <span className="text-sm">Name</span>
            <input
              className="input w-full"
              value={to.path}
              onChange={(event) => change({ destination: { ...to, path: event.target.value } })}
            />
          </label>
          <Choice
            name="Format"
            value={request.as ?? ""}
            options={formats.data?.map((f) => f.name) ?? []}
            change={setFormat}
          />
        </>
      )}
    </>
  );
}
