import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { Download, File as FileIcon, Folder, FolderPlus, Hash, Pencil, Trash2, Upload } from "lucide-react";
import { useState, type DragEvent, type FormEvent } from "react";
import { Link, useSearchParams } from "react-router";
import { calls, result, type Schemas } from "../api/client.ts";
import { useMe } from "../api/me.ts";
import { upload, type Sent } from "../api/upload.ts";
import { exact, size, when } from "../format.ts";
import { Failure } from "./failure.tsx";
import { Pages } from "./pages.tsx";

type Entry = Schemas["FileEntry"];

const base = (path: string) => path.slice(path.lastIndexOf("/") + 1);
const join = (folder: string, name: string) => (folder ? `${folder}/${name}` : name);

/** What lies in the folders of a pool at this moment, and what can be done with it that is no disk. */
export function Files({ pool }: { pool: string }) {
  const [search, setSearch] = useSearchParams();
  const folder = search.get("folder") ?? "";
  const client = useQueryClient();
  const [cursors, setCursors] = useState<string[]>([]);
  const works = useMe().data?.role !== "viewer";
  const page = useQuery({
    queryKey: ["files", pool, folder, cursors],
    queryFn: () =>
      result(
        calls.GET("/v1/pools/{pool}/files", {
          params: { path: { pool }, query: { folder: folder || ".", limit: 200, cursor: cursors.at(-1) } },
        }),
      ),
  });
  const enter = (to: string) => {
    setCursors([]);
    setSearch(to ? { name: pool, folder: to } : { name: pool });
  };
  const changed = () => client.invalidateQueries({ queryKey: ["files", pool] });
  const above = folder.split("/").filter(Boolean);
  return (
    <section className="sheet space-y-4" aria-label="Files">
      <h2>Files</h2>
      <nav aria-label="Folder" className="flex flex-wrap items-center gap-1 text-sm">
        <button type="button" className="link" onClick={() => enter("")}>
          {pool}
        </button>
        {above.map((name, n) => (
          <span key={n} className="flex items-center gap-1">
            <span aria-hidden>/</span>
            <button type="button" className="link break-all" onClick={() => enter(above.slice(0, n + 1).join("/"))}>
              {name}
            </button>
          </span>
        ))}
      </nav>
      {works && <Bring pool={pool} folder={folder} changed={changed} />}
      {page.error && <Failure error={page.error} />}
      {page.data?.total === 0 && <p className="opacity-75">Nothing lies here.</p>}
      <ul className="divide-y divide-base-300">
        {page.data?.items.map((entry) => (
          <Row key={entry.path} pool={pool} entry={entry} enter={enter} changed={changed} works={works} />
        ))}
      </ul>
      {(cursors.length > 0 || page.data?.next) && (
        <div className="flex items-center gap-3 text-sm">
          <span>{page.data?.total} files and folders</span>
          <Pages cursors={cursors} next={page.data?.next} go={setCursors} />
        </div>
      )}
    </section>
  );
}

/** Makes folders, and brings files of this computer here. */
function Bring({ pool, folder, changed }: { pool: string; folder: string; changed: () => void }) {
  const [name, setName] = useState("");
  const [coming, setComing] = useState<{ file: File; sent: Sent; stop: () => void; problem?: Error }[]>([]);
  const make = useMutation({
    mutationFn: () =>
      result(
        calls.POST("/v1/pools/{pool}/folders", { params: { path: { pool } }, body: { path: join(folder, name) } }),
      ),
    onSuccess: () => {
      setName("");
      changed();
    },
  });
  const send = async (file: File) => {
    const stop = new AbortController();
    const say = (more: { sent?: Sent; problem?: Error }) =>
      setComing((all) => all.map((c) => (c.file === file ? { ...c, ...more } : c)));
    setComing((all) => [...all, { file, sent: { there: 0, compared: 0 }, stop: () => stop.abort() }]);
    try {
      await upload(pool, join(folder, file.name), file, (sent) => say({ sent }), stop.signal);
      setComing((all) => all.filter((c) => c.file !== file));
    } catch (problem) {
      say({ problem: problem as Error });
    }
    changed();
  };
  const submit = (event: FormEvent) => {
    event.preventDefault();
    make.mutate();
  };
  const [over, setOver] = useState(false);
  const withFiles = (event: DragEvent) => event.dataTransfer.types.includes("Files");
  return (
    <div
      className={`space-y-3 rounded-field ${over ? "outline-3 outline-offset-4 outline-accent" : ""}`}
      onDragOver={(event) => {
        if (!withFiles(event)) return;
        event.preventDefault();
        setOver(true);
      }}
      onDragLeave={() => setOver(false)}
      onDrop={(event) => {
        if (!withFiles(event)) return;
        event.preventDefault();
        setOver(false);
        for (const file of filesOf(event.dataTransfer)) void send(file);
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <label className="btn btn-sm btn-primary focus-within:outline-2 focus-within:outline-offset-2">
          <Upload aria-hidden className="size-4" />
          Bring files here, or drop them
          <input
            type="file"
            multiple
            className="sr-only"
            onChange={({ target }) => {
              for (const file of target.files ?? []) void send(file);
              target.value = "";
            }}
          />
        </label>
        <form className="flex items-end gap-2" onSubmit={submit}>
          <label className="block">
            <span className="text-sm">New folder</span>
            <input className="input input-sm w-full" value={name} onChange={({ target }) => setName(target.value)} />
          </label>
          <button type="submit" className="btn btn-sm" disabled={!name || make.isPending}>
            <FolderPlus aria-hidden className="size-4" />
            Make
          </button>
        </form>
      </div>
      {make.error && <Failure error={make.error} />}
      <ul className="space-y-2">
        {coming.map(({ file, sent, stop, problem }) => (
          <li key={file.name + file.lastModified} className="space-y-1">
            {problem ? (
              <div className="flex items-start gap-2">
                <Failure error={new Error(`${file.name}: ${problem.message}`)} />
                <button
                  type="button"
                  className="btn btn-sm"
                  onClick={() => setComing((all) => all.filter((c) => c.file !== file))}
                >
                  Seen
                </button>
              </div>
            ) : (
              <>
                <p className="flex flex-wrap items-center justify-between gap-3 text-sm">
                  <span className="break-all">{file.name}</span>
                  <span className="figures" title={exact(sent.there)}>
                    {sent.compared > 0
                      ? `read back there ${size(sent.compared)} of ${size(file.size)}`
                      : `${size(sent.there)} of ${size(file.size)}`}
                  </span>
                  <button type="button" className="btn btn-xs" onClick={stop}>
                    Stop
                  </button>
                </p>
                <progress
                  className="progress progress-primary w-full"
                  max={2 * file.size || 1}
                  value={sent.there + sent.compared}
                  aria-label={`${file.name} on its way`}
                />
              </>
            )}
          </li>
        ))}
      </ul>
    </div>
  );
}

/** What was dropped, without folders, which a browser gives as files that cannot be read. */
function filesOf(dropped: DataTransfer): File[] {
  return [...dropped.items]
    .filter((item) => item.kind === "file" && item.webkitGetAsEntry()?.isDirectory !== true)
    .flatMap((item) => item.getAsFile() ?? []);
}

type RowProps = { pool: string; entry: Entry; enter: (folder: string) => void; changed: () => void; works: boolean };

function Row({ pool, entry, enter, changed, works }: RowProps) {
  const [renamed, setRenamed] = useState<string>();
  const [sure, setSure] = useState(false);
  const params = { path: { pool } };
  const rename = useMutation({
    mutationFn: (to: string) =>
      result(calls.POST("/v1/pools/{pool}/files/rename", { params, body: { path: entry.path, to } })),
    onSuccess: () => {
      setRenamed(undefined);
      changed();
    },
  });
  const remove = useMutation({
    mutationFn: () =>
      result(calls.DELETE("/v1/pools/{pool}/files", { params: { ...params, query: { path: entry.path } } })),
    onSuccess: changed,
  });
  const sum = useMutation({
    mutationFn: () => result(calls.GET("/v1/pools/{pool}/sum", { params: { ...params, query: { path: entry.path } } })),
  });
  const problem = rename.error ?? remove.error ?? sum.error;
  const name = base(entry.path);
  const content = `/v1/pools/${encodeURIComponent(pool)}/content/${encodeURIComponent(entry.path)}`;
  return (
    <li className="space-y-2 py-2">
      <div className="flex flex-wrap items-center gap-x-4 gap-y-1">
        <span className="flex min-w-0 grow items-center gap-2">
          {entry.folder ? (
            <>
              <Folder aria-hidden className="size-4 shrink-0" />
              <button type="button" className="link break-all text-left" onClick={() => enter(entry.path)}>
                {name}
              </button>
            </>
          ) : (
            <>
              <FileIcon aria-hidden className="size-4 shrink-0 opacity-75" />
              <span className="break-all">{name}</span>
            </>
          )}
        </span>
        {entry.disk && (
          <Link className="link text-sm" to={`/disk?${new URLSearchParams({ pool, path: entry.disk })}`}>
            {entry.disk === entry.path ? "a disk" : `of ${base(entry.disk)}`}
          </Link>
        )}
        {!entry.folder && (
          <span className="figures text-sm" title={`${exact(entry.size)}, ${when(entry.modified)}`}>
            {size(entry.size)}
          </span>
        )}
        {works && (
          <span className="flex gap-1">
            {!entry.folder && (
              <button
                type="button"
                className="btn btn-ghost btn-sm btn-square"
                aria-label={`SHA-256 of ${name}`}
                title="Read it where it lies, to compare it with what was downloaded"
                disabled={sum.isPending}
                onClick={() => sum.mutate()}
              >
                <Hash aria-hidden className="size-4" />
              </button>
            )}
            {!entry.folder && (
              <a className="btn btn-ghost btn-sm btn-square" href={content} download aria-label={`Download ${name}`}>
                <Download aria-hidden className="size-4" />
              </a>
            )}
            {!entry.disk && (
              <>
                <button
                  type="button"
                  className="btn btn-ghost btn-sm btn-square"
                  aria-label={`Rename ${name}`}
                  onClick={() => setRenamed(entry.path)}
                >
                  <Pencil aria-hidden className="size-4" />
                </button>
                <button
                  type="button"
                  className={`btn btn-sm ${sure ? "btn-warning" : "btn-ghost btn-square"}`}
                  aria-label={sure ? undefined : `Remove ${name}`}
                  disabled={remove.isPending}
                  onBlur={() => setSure(false)}
                  onClick={() => (sure ? remove.mutate() : setSure(true))}
                >
                  <Trash2 aria-hidden className="size-4" />
                  {sure && "Remove, and hold it for a while"}
                </button>
              </>
            )}
          </span>
        )}
      </div>
      {sum.isPending && <p className="text-sm opacity-75">Reading it where it lies …</p>}
      {sum.data && (
        <p className="text-sm">
          SHA-256 <output className="figures break-all select-all">{sum.data.sha256}</output>
        </p>
      )}
      {renamed !== undefined && (
        <form
          className="flex flex-wrap items-end gap-2"
          onSubmit={(event) => {
            event.preventDefault();
            rename.mutate(renamed);
          }}
        >
          <label className="block grow">
            <span className="text-sm">Its new path in the pool</span>
            <input
              className="input input-sm w-full"
              autoFocus
              value={renamed}
              onChange={({ target }) => setRenamed(target.value)}
            />
          </label>
          <button type="submit" className="btn btn-sm btn-primary" disabled={rename.isPending || !renamed}>
            Rename
          </button>
          <button type="button" className="btn btn-sm" onClick={() => setRenamed(undefined)}>
            Leave it
          </button>
        </form>
      )}
      {problem && <Failure error={problem} />}
    </li>
  );
}
