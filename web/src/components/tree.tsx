import { useQuery } from "@tanstack/react-query";
import { Download, File, Folder, Link2 } from "lucide-react";
import { useState } from "react";
import { calls, items, type Schemas } from "../api/client.ts";
import { exact, size, when } from "../format.ts";
import { Failure } from "./failure.tsx";

/** A disk in a pool, and the partition of it, or the name of a volume of LVM. */
type Of = { pool: string; path: string; partition: number | string };

/** The files of a partition, folder by folder as they are opened. */
export function Tree({ of, title }: { of: Of; title: string }) {
  return <Branch of={of} at="" name={title} />;
}

function Branch({ of, at, name }: { of: Of; at: string; name: string }) {
  const [open, setOpen] = useState(false);
  return (
    <details onToggle={(event) => setOpen(event.currentTarget.open)}>
      <summary className="cursor-pointer py-1">
        <Folder aria-hidden className="mr-1 inline size-4" />
        {name}
      </summary>
      {open && <Entries of={of} at={at} />}
    </details>
  );
}

const shown = 500;

function Entries({ of, at }: { of: Of; at: string }) {
  const [most, setMost] = useState(shown);
  const query = { path: of.path, at: `${of.partition}:/${at}` };
  const list = useQuery({
    queryKey: ["inside", of, at],
    queryFn: () => items(calls.GET("/v1/pools/{pool}/inside", { params: { path: { pool: of.pool }, query } })),
    retry: false,
  });
  if (list.error) return <Failure error={list.error} />;
  if (!list.data) return <p className="pl-6 text-sm opacity-75">Looking.</p>;
  return (
    <ul className="border-l border-base-300 pl-4">
      {list.data.length === 0 && <li className="text-sm opacity-75">It is empty.</li>}
      {list.data.slice(0, most).map((entry) => (
        <li key={entry.name}>
          <Entry of={of} at={at ? `${at}/${entry.name}` : entry.name} entry={entry} />
        </li>
      ))}
      {list.data.length > most && (
        <li>
          <button type="button" className="btn btn-xs" onClick={() => setMost(most + shown)}>
            {list.data.length - most} more
          </button>
        </li>
      )}
    </ul>
  );
}

function Entry({ of, at, entry }: { of: Of; at: string; entry: Schemas["Found"] }) {
  if (entry.kind === "folder") return <Branch of={of} at={at} name={entry.name} />;
  const query = new URLSearchParams({ path: of.path, at: `${of.partition}:/${at}` });
  const Icon = entry.kind === "link" ? Link2 : File;
  return (
    <span className="flex flex-wrap items-center gap-x-3 py-1">
      <span className="break-all">
        <Icon aria-hidden className="mr-1 inline size-4" />
        {entry.name}
      </span>
      {entry.kind === "file" && (
        <>
          <span className="figures text-sm opacity-75" title={exact(entry.size)}>
            {size(entry.size)}
          </span>
          <span className="text-sm opacity-75">{when(entry.modified)}</span>
          <a
            className="btn btn-ghost btn-xs"
            href={`/v1/pools/${encodeURIComponent(of.pool)}/inside/file?${query}`}
            aria-label={`Take ${entry.name}`}
            download
          >
            <Download aria-hidden className="size-4" />
          </a>
        </>
      )}
    </span>
  );
}
