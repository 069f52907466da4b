import { Usb } from "lucide-react";
import { Link } from "react-router";
import type { Machine } from "../api/client.ts";
import { size } from "../format.ts";
import { workOf } from "./machine-actions.tsx";
import { Sizes } from "./sizes.tsx";

type Props = {
  disks: Machine["disks"];
  /** Their sizes as bars. */
  bars?: boolean;
  /** The machine, HOST:NAME, where its disks can be taken from it. */
  of?: string;
};

/** The disks of a machine, and where they lie. */
export function MachineDisks({ disks, bars, of }: Props) {
  return (
    <ul className="space-y-1 text-sm">
      {disks.map((disk) => (
        <li key={`${disk.slot} ${disk.file} ${disk.volume}`} className="space-y-1">
          <div className="flex flex-wrap gap-x-3 break-all">
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
            {disk.removable && (
              <span className="flex items-center gap-1 text-warning">
                <Usb aria-hidden className="size-4" />
                on a removable drive
              </span>
            )}
          </div>
          {of && disk.slot && (
            <div className="flex gap-2">
              <Link className="btn btn-xs" to={workOf({ kind: "detach-disk", machine: of, slot: disk.slot })}>
                Detach {disk.slot}
              </Link>
              <Link className="btn btn-xs" to={workOf({ kind: "hand-disk", machine: of, slot: disk.slot })}>
                Hand {disk.slot} over
              </Link>
            </div>
          )}
          {bars && disk.virtual_size !== undefined && (
            <div className="max-w-md">
              <Sizes virtual={disk.virtual_size} allocated={disk.allocated_size ?? 0} file={disk.file_size ?? 0} />
            </div>
          )}
        </li>
      ))}
    </ul>
  );
}
