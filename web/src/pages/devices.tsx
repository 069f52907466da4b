import { useQuery } from "@tanstack/react-query";
import { HardDriveDownload } from "lucide-react";
import { Link } from "react-router";
import { calls, items } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { calledPart, PartitionStrip, type Device } from "../components/partition-strip.tsx";
import { exact, size } from "../format.ts";

/** The physical disks of computers. */
export function DevicesPage() {
  const devices = useQuery({ queryKey: ["devices"], queryFn: () => items(calls.GET("/v1/devices")) });
  return (
    <div className="space-y-6">
      <h1>Devices</h1>
      {devices.error && <Failure error={devices.error} />}
      {devices.isPending && <p>Looking for disks.</p>}
      {devices.data?.length === 0 && <p>This computer shows no physical disks.</p>}
      {devices.data?.map((d) => (
        <DeviceSheet key={d.host + d.path} device={d} />
      ))}
    </div>
  );
}

function DeviceSheet({ device }: { device: Device }) {
  const traits = [
    size(device.size),
    device.model,
    device.serial && `serial ${device.serial}`,
    `sectors of ${device.sector_size} bytes`,
    device.removable && "can be unplugged",
    device.read_only && "read only",
    device.backing && `the file ${device.backing}`,
    device.health,
  ];
  return (
    <section className="sheet space-y-4" aria-label={device.path}>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <h2 className="break-all">
          {device.host}:{device.path}
        </h2>
        <span className="text-sm opacity-75">{traits.filter(Boolean).join(", ")}</span>
        <span className="grow" />
        {!device.problem && (
          <Link className="btn btn-primary btn-sm" to={`/devices/capture?device=${device.host}:${device.path}`}>
            <HardDriveDownload aria-hidden className="size-4" />
            Capture
          </Link>
        )}
      </div>
      {device.problem && <p className="alert alert-warning alert-soft">{device.problem}</p>}
      {device.uses.map((u) => (
        <p key={`${u.by} ${u.where} ${u.partition}`} className="text-sm text-warning">
          {u.partition ? `Partition ${u.partition}` : "It"} is {u.by === "held" ? "held by" : u.by}{" "}
          {u.by === "mounted" && "at "}
          {u.by !== "swap" && u.where}
          {u.by === "mounted" && (u.writes ? ", for writing" : ", read only")}
        </p>
      ))}
      {device.partitions.length > 0 && (
        <>
          <PartitionStrip device={device} />
          <div className="overflow-x-auto">
            <table className="table">
              <thead>
                <tr>
                  <th>Partition{device.table && ` (${device.table})`}</th>
                  <th className="text-right">Length</th>
                  <th className="text-right">Used</th>
                </tr>
              </thead>
              <tbody>
                {device.partitions.map((p) => (
                  <tr key={p.number}>
                    <td>{calledPart(p)}</td>
                    <td className="figures text-right" title={exact(p.length)}>
                      {size(p.length)}
                    </td>
                    <td className="figures text-right" title={p.used >= 0 ? exact(p.used) : undefined}>
                      {p.used >= 0 ? size(p.used) : "not known"}
                    </td>
                  </tr>
                ))}
              </tbody>
            </table>
          </div>
        </>
      )}
    </section>
  );
}
