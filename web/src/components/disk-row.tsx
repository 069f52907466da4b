import { Layers, MoveRight, Paperclip, Server, TriangleAlert } from "lucide-react";
import { Link, useNavigate } from "react-router";
import type { DiskEntry } from "../api/client.ts";
import { size } from "../format.ts";
import { Sizes } from "./sizes.tsx";

/** What is dragged from one pool to another. */
export const dragged = "application/x-bagaglio-disk";

/** The address of the composing page with a disk and what to do with it filled in. */
export function composing(pool: string, path: string, work: string, to = ""): string {
  return `/compose?${new URLSearchParams({ pool, path, work, to })}`;
}

type Props = { pool: string; disk: DiskEntry; others: string[] };

/** One disk in a list, which opens into its files and can be dragged to another pool. */
export function DiskRow({ pool, disk, others }: Props) {
  return (
    <li
      className="grid items-center gap-x-6 gap-y-2 py-3 sm:grid-cols-[1fr_20rem_auto]"
      draggable
      onDragStart={(event) => {
        event.dataTransfer.setData(dragged, JSON.stringify({ pool, path: disk.path }));
        event.dataTransfer.effectAllowed = "copyMove";
      }}
    >
      <div className="min-w-0">
        <Link className="link font-medium break-all" to={`/disk?${new URLSearchParams({ pool, path: disk.path })}`}>
          {disk.path}
        </Link>
        {disk.called && <p className="font-medium">{disk.called}</p>}
        {disk.note && <p className="text-sm">{disk.note}</p>}
        <p className="text-sm opacity-75">
          {disk.format}
          {disk.layout && `, ${disk.layout}`}
          {disk.filesystem && `; ${disk.filesystem} without partitions`}
        </p>
        {disk.problem && <p className="text-sm text-error">{disk.problem}</p>}
        <Relations disk={disk} />
        <details className="text-sm">
          <summary className="cursor-pointer opacity-75">
            {disk.files.length} {disk.files.length === 1 ? "file" : "files"}
          </summary>
          <ul className="mt-1 space-y-0.5">
            {disk.files.map((file) => (
              <li key={file.name} className="flex flex-wrap justify-between gap-x-4">
                <span className="break-all">{file.name}</span>
                <span className="figures" title="length, and what it takes of the storage">
                  {size(file.size)}, {size(file.room)} taken
                </span>
              </li>
            ))}
          </ul>
        </details>
      </div>
      {disk.problem ? (
        <span className="figures">{size(disk.file_size)}</span>
      ) : (
        <Sizes virtual={disk.virtual_size} allocated={disk.allocated_size} file={disk.file_size} />
      )}
      <Work pool={pool} path={disk.path} others={others} />
    </li>
  );
}

function Relations({ disk }: { disk: DiskEntry }) {
  const base = disk.stands_on[0];
  return (
    <p className="flex flex-wrap gap-x-4 text-sm">
      {disk.machines.length > 0 && (
        <span className="flex items-center gap-1.5" title="whose definition names it, or what stands on it">
          <Server aria-hidden className="size-3.5" />
          {disk.machines.join(", ")}
        </span>
      )}
      {disk.orphan && (
        <span className="flex items-center gap-1.5 text-warning">
          <TriangleAlert aria-hidden className="size-3.5" />
          {disk.orphan}
        </span>
      )}
      {base && (
        <span className="flex items-center gap-1.5">
          <Layers aria-hidden className="size-3.5" />
          stands on {base}
        </span>
      )}
      {disk.standing.length > 0 && (
        <span className="flex items-center gap-1.5" title={disk.standing.join(", ")}>
          <Layers aria-hidden className="size-3.5" />
          {disk.standing.length} {disk.standing.length === 1 ? "disk stands" : "disks stand"} on it
        </span>
      )}
      {disk.tag && (
        <span className="flex items-center gap-1.5 opacity-75">
          <Paperclip aria-hidden className="size-3.5" />
          tagged
        </span>
      )}
    </p>
  );
}

/** What can be done with a disk; moving it is the same as dragging it. */
function Work({ pool, path, others }: { pool: string; path: string; others: string[] }) {
  const navigate = useNavigate();
  return (
    <span className="flex items-center gap-2">
      <Link className="btn btn-sm" to={composing(pool, path, "convert")} aria-label={`Convert ${path}`}>
        Convert
      </Link>
      <label className="flex items-center gap-1.5">
        <MoveRight aria-hidden className="size-4" />
        <select
          className="select select-sm w-36"
          aria-label={`Move ${path} to`}
          value=""
          onChange={(event) => navigate(composing(pool, path, "move", event.target.value))}
        >
          <option value="">Move to …</option>
          {others.map((name) => (
            <option key={name}>{name}</option>
          ))}
        </select>
      </label>
    </span>
  );
}
