import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Archive, ArrowRightLeft } from "lucide-react";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { calls, items, result, type Report, type Schemas } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { Family } from "../components/family.tsx";
import { Sizes } from "../components/sizes.tsx";
import { TextLine } from "../components/text-line.tsx";
import { Starts } from "../components/starts.tsx";
import { Tree } from "../components/tree.tsx";
import { exact, size } from "../format.ts";

/** One disk: what it is, where its data lies, and what is inside. */
export function DiskPage() {
  const [search] = useSearchParams();
  const pool = search.get("pool") ?? "";
  const path = search.get("path") ?? "";
  const report = useQuery({
    queryKey: ["disk", pool, path],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/disk", { params: { path: { pool }, query: { path } } })),
  });
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="break-all">
          {pool}:{path}
        </h1>
        <div className="flex gap-2">
          <Link className="btn btn-primary btn-sm" to={`/compose?${search}`}>
            <ArrowRightLeft aria-hidden className="size-4" />
            Convert
          </Link>
          <Link className="btn btn-sm" to={`/remove?${search}`}>
            <Archive aria-hidden className="size-4" />
            Remove
          </Link>
        </div>
      </div>
      <Called pool={pool} path={path} />
      {report.isPending && <p>Looking at the disk.</p>}
      {report.error && <Failure error={report.error} />}
      {report.data && <About report={report.data} />}
      <Family pool={pool} path={path} />
      {report.data && <Inside pool={pool} path={path} inside={report.data.inside} whole={report.data.virtual_size} />}
      {report.data && <Starts pool={pool} path={path} />}
    </div>
  );
}

/** What people call it, and note on it, which is changed here. */
function Called({ pool, path }: { pool: string; path: string }) {
  const cache = useQueryClient();
  const key = ["disks", "called", pool, path];
  const entry = useQuery({
    queryKey: key,
    queryFn: async () =>
      (await items(calls.GET("/v1/pools/{pool}/disks", { params: { path: { pool }, query: { search: path } } }))).find(
        (d) => d.path === path,
      ) ?? null,
  });
  const [edited, setEdited] = useState<{ called: string; note: string }>();
  const save = useMutation({
    mutationFn: async () => {
      await result(
        calls.PUT("/v1/pools/{pool}/disk-name", { params: { path: { pool }, query: { path } }, body: edited ?? {} }),
      );
      await cache.invalidateQueries({ queryKey: ["disks"] });
    },
    onSuccess: () => setEdited(undefined),
  });
  const disk = entry.data;
  if (!disk) return null;
  return (
    <section aria-label="Name" className="space-y-2">
      {!edited && (
        <div className="flex flex-wrap items-center gap-3">
          <span className={disk.called ? "text-lg font-medium" : "opacity-75"}>
            {disk.called ?? "It has no name for people."}
          </span>
          {disk.note && <span>{disk.note}</span>}
          <button
            type="button"
            className="btn btn-xs"
            onClick={() => setEdited({ called: disk.called ?? "", note: disk.note ?? "" })}
          >
            Name it
          </button>
        </div>
      )}
      {edited && (
        <form
          className="sheet space-y-3"
          onSubmit={(event) => {
            event.preventDefault();
            save.mutate();
          }}
        >
          <TextLine name="Called" value={edited.called} change={(called) => setEdited({ ...edited, called })} />
          <TextLine name="Note" value={edited.note} change={(note) => setEdited({ ...edited, note })} />
          <button type="submit" className="btn btn-primary btn-sm" disabled={save.isPending}>
            Keep
          </button>
        </form>
      )}
      {save.error && <Failure error={save.error} />}
    </section>
  );
}

function About({ report }: { report: Report }) {
  const facts: [string, string | undefined][] = [
    ["Format", `${report.format}, ${report.layout}${report.version ? `, version ${report.version}` : ""}`],
    ["Creator", report.creator],
    ["Identifier", report.identifier],
    ["State", report.dirty ? "was not closed properly" : undefined],
    ["Block size", report.block_size ? size(report.block_size) : undefined],
    ["Sector size", report.sector_size ? size(report.sector_size) : undefined],
    ["Files", report.files.join(", ")],
    ["Takes of the storage", size(report.room)],
    ["Stands on", report.base],
    ["Chain", report.chain.join(", ")],
    ["Snapshots", report.snapshots.join(", ")],
  ];
  return (
    <section className="sheet space-y-5" aria-label="What it is">
      <Sizes virtual={report.virtual_size} allocated={report.allocated_size} file={report.file_size} />
      <Strip report={report} />
      <dl className="grid gap-x-6 gap-y-1 sm:grid-cols-[auto_1fr]">
        {facts
          .filter(([, value]) => value)
          .map(([name, value]) => (
            <div key={name} className="contents">
              <dt className="text-sm opacity-75">{name}</dt>
              <dd className="break-all">{value}</dd>
            </div>
          ))}
      </dl>
      {[...report.warnings, ...report.inside.warnings].map((warning) => (
        <p key={warning} className="alert alert-warning alert-soft">
          {warning}
        </p>
      ))}
    </section>
  );
}

/** Where data lies, from the first byte to the last. */
function Strip({ report }: { report: Report }) {
  const data = report.extents.filter((e) => e.kind === "data");
  return (
    <figure>
      <svg
        role="img"
        aria-label={`${report.extents_total} extents from the first byte to the last`}
        viewBox="0 0 1000 20"
        preserveAspectRatio="none"
        className="h-6 w-full rounded-field bg-base-200"
      >
        {data.map((e) => (
          <rect
            key={e.offset}
            className="fill-primary"
            x={(1000 * e.offset) / report.virtual_size}
            width={Math.max(1, (1000 * e.length) / report.virtual_size)}
            height={20}
          />
        ))}
      </svg>
      <figcaption className="mt-1 flex justify-between text-xs opacity-75">
        <span>first byte</span>
        <span>
          stored data in {report.extents_total} extents; the rest reads as zeros
          {report.extents_total > report.extents.length && ` (the first ${report.extents.length} are drawn)`}
        </span>
        <span>last byte</span>
      </figcaption>
    </figure>
  );
}

type InsideOf = { pool: string; path: string; inside: Schemas["Contents"]; whole: number };

function Inside({ pool, path, inside, whole }: InsideOf) {
  const read = inside.partitions.filter((p) => p.filesystem?.size);
  const volumes = [inside.filesystem, ...inside.partitions.map((p) => p.filesystem)].flatMap((f) => f?.volumes ?? []);
  return (
    <section className="sheet" aria-label="What is inside">
      <h2 className="mb-3">Inside</h2>
      {inside.filesystem && <p>No partitions; one filesystem: {filesystem(inside.filesystem)}</p>}
      {!inside.filesystem && inside.table === "" && <p>No partition table or filesystem that is known.</p>}
      {inside.table !== "" && (
        <div className="overflow-x-auto">
          <table className="table">
            <thead>
              <tr>
                <th>Partition ({inside.table})</th>
                <th className="text-right">Begins at</th>
                <th className="text-right">Length</th>
                <th>Type</th>
                <th>Filesystem</th>
              </tr>
            </thead>
            <tbody>
              {inside.partitions.map((p) => (
                <tr key={p.number}>
                  <td>
                    {p.number} {p.name}
                  </td>
                  <td className="figures text-right" title={exact(p.offset)}>
                    {size(p.offset)}
                  </td>
                  <td className="figures text-right" title={`${exact(p.length)} of ${exact(whole)}`}>
                    {size(p.length)}
                  </td>
                  <td>{p.type}</td>
                  <td>{p.filesystem && filesystem(p.filesystem)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
      {volumes.map((v) => (
        <p key={v.name} className="mt-2 text-sm">
          Volume <b>{v.name}</b>, {size(v.size)}: {v.filesystem ? filesystem(v.filesystem) : "nothing that is known"}
        </p>
      ))}
      {(read.length > 0 || volumes.length > 0 || inside.filesystem?.size) && (
        <div className="mt-4" role="group" aria-label="Files">
          {inside.filesystem?.size && <Tree of={{ pool, path, partition: 0 }} title="Files" />}
          {read.map((p) => (
            <Tree key={p.number} of={{ pool, path, partition: p.number }} title={`Files of partition ${p.number}`} />
          ))}
          {volumes
            .filter((v) => v.filesystem?.size)
            .map((v) => (
              <Tree key={v.name} of={{ pool, path, partition: v.name }} title={`Files of ${v.name}`} />
            ))}
        </div>
      )}
    </section>
  );
}

function filesystem(f: Schemas["Filesystem"]): string {
  const used = f.size ? `, ${size(f.used ?? 0)} used of ${size(f.size)}` : "";
  return [f.kind, f.label, f.id].filter(Boolean).join(" ") + used;
}
