import { useQuery } from "@tanstack/react-query";
import { mend } from "../api/mend.ts";
import { useRequest } from "../api/request.ts";
import { useSettled } from "../api/settled.ts";
import { calls, items, type Format, type PlanRequest } from "../api/client.ts";
import { Choice } from "../components/choice.tsx";
import { DiskChoice } from "../components/disk-choice.tsx";
import { DoneBy } from "../components/done-by.tsx";
import { LayoutOptions } from "../components/layout-options.tsx";
import { Outlook } from "../components/outlook.tsx";
import { SizeField } from "../components/size-field.tsx";

/** Work in one place: what is asked for on the left, what would happen on the right. The request is in the address. */
export function ComposePage() {
  const [request, setRequest] = useRequest<PlanRequest>((search) =>
    begin(search.get("pool") ?? "", search.get("path") ?? "", search.get("work") ?? "convert", search.get("to") ?? ""),
  );
  const asked = useSettled(request, 250);
  const complete = Boolean(asked.source.pool && asked.source.path && asked.destination?.pool && asked.destination.path);
  return (
    <div className="space-y-6">
      <h1>Compose</h1>
      <div className="grid items-start gap-6 md:grid-cols-2">
        <form className="sheet space-y-5" onSubmit={(event) => event.preventDefault()}>
          <RequestFields request={request} change={setRequest} />
        </form>
        <Outlook
          request={asked}
          complete={complete}
          current={asked === request}
          hint="Choose a source and a destination: the plan appears here."
          onRemedy={(remedy) => setRequest(mend(request, remedy))}
        />
      </div>
    </div>
  );
}

/** The kinds of work, as they are chosen here. */
const works = {
  convert: "Convert: another format or layout",
  copy: "Copy: the files as they are",
  move: "Move: copy, prove, and hold the source for a while",
} as const;

function begin(pool: string, path: string, work: string, to: string): PlanRequest {
  const request: PlanRequest = {
    kind: "convert",
    source: { pool, path },
    destination: { pool: to, path: "" },
    as: "qcow2",
  };
  return work === "convert" ? request : workOf({ ...request, destination: { pool: to, path } }, work);
}

/** The request as work of another kind. */
function workOf(request: PlanRequest, work: string): PlanRequest {
  const next = plain({
    ...request,
    kind: work === "convert" ? "convert" : "copy",
    as: "qcow2",
    release: work === "move",
  });
  delete next.layout;
  delete next.size;
  delete next.smallest;
  if (work !== "convert") delete next.as;
  return next;
}

type FieldsProps = { request: PlanRequest; change: (request: PlanRequest) => void };

function RequestFields({ request, change }: FieldsProps) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const formats = useQuery({
    queryKey: ["formats"],
    queryFn: () => items(calls.GET("/v1/formats")),
    staleTime: Infinity,
  });
  const names = pools.data?.map((p) => p.name) ?? [];
  const format = formats.data?.find((f) => f.name === request.as);
  const to = request.destination ?? { pool: "", path: "" };
  const layout = format?.layouts.find((l) => l.name === (request.layout ?? format.layouts[0]?.name));
  const setSource = (path: string) =>
    change({
      ...request,
      source: { pool: request.source.pool, path },
      destination: { ...to, path: request.kind === "copy" ? path : rename(path, formats.data, request.as) },
    });
  const setFormat = (as: string) => {
    const next = { ...request, as, destination: { ...to, path: rename(to.path, formats.data, as) } };
    delete next.layout;
    change(plain(next));
  };
  const copies = request.kind === "copy";
  return (
    <>
      <Choice
        name="Work"
        value={copies ? (request.release ? "move" : "copy") : "convert"}
        options={Object.keys(works)}
        show={(work) => works[work as keyof typeof works]}
        change={(work) => change(workOf(request, work))}
      />
      <fieldset className="space-y-3">
        <legend className="font-semibold">From</legend>
        <Choice
          name="Pool"
          value={request.source.pool ?? ""}
          options={names}
          change={(pool) => change({ ...request, source: { pool, path: "" } })}
        />
        <DiskChoice
          key={request.source.pool}
          name="Disk"
          pool={request.source.pool ?? ""}
          value={request.source.path}
          change={setSource}
        />
      </fieldset>
      <fieldset className="space-y-3">
        <legend className="font-semibold">To</legend>
        <Choice
          name="Pool of the new image"
          value={to.pool ?? ""}
          options={names}
          change={(pool) => change({ ...request, destination: { ...to, pool } })}
        />
        <label className="block">
          <span className="text-sm">Name</span>
          <input
            className="input w-full"
            value={to.path}
            onChange={(event) => change({ ...request, destination: { ...to, path: event.target.value } })}
          />
        </label>
      </fieldset>
      <fieldset className="space-y-3">
        <legend className="font-semibold">{copies ? "How" : "As"}</legend>
        {!copies && (
          <div className="grid grid-cols-2 gap-3">
            <Choice
              name="Format"
              value={request.as ?? ""}
              options={formats.data?.map((f) => f.name) ?? []}
              change={setFormat}
            />
            <Choice
              name="Layout"
              value={request.layout ?? format?.layouts[0]?.name ?? ""}
              options={format?.layouts.map((l) => l.name) ?? []}
              change={(layout) => change(plain({ ...request, layout }))}
            />
          </div>
        )}
        {!copies && layout?.stands && <Base request={request} change={change} />}
        {!copies && (
          <SizeField
            bytes={request.size}
            smallest={request.smallest}
            change={(bytes, smallest) =>
              change({ ...request, size: bytes ?? undefined, smallest: smallest ?? undefined })
            }
          />
        )}
        {!copies && layout && <LayoutOptions layout={layout} request={request} change={change} />}
        {!request.release && (
          <Switch
            name="Prove it: read the new image back and compare"
            value={!request.no_proof}
            change={(proof) => change({ ...request, no_proof: !proof })}
          />
        )}
        <Switch
          name="When the source changes while it is copied, copy again what differs"
          value={request.recopy ?? false}
          change={(recopy) => change({ ...request, recopy })}
        />
        <Switch
          name="Go on where the source cannot be read, with zeros in the place"
          value={request.past_damage ?? false}
          change={(past_damage) => change({ ...request, past_damage })}
        />
        <Switch
          name="Replace what lies at the destination, once the new image is complete; what was there is held for a while"
          value={request.replace ?? false}
          change={(replace) => change({ ...request, replace })}
        />
        <DoneBy by={request.by} change={(by) => change({ ...request, by })} />
      </fieldset>
    </>
  );
}

/** The request without what belongs to another layout. */
function plain(request: PlanRequest): PlanRequest {
  const next = { ...request };
  delete next.options;
  delete next.base;
  return next;
}

/** What the new image is to stand on: a disk in its pool. */
function Base({ request, change }: FieldsProps) {
  const pool = request.destination?.pool ?? "";
  return (
    <DiskChoice
      key={pool}
      name="Base"
      pool={pool}
      value={request.base ?? ""}
      change={(base) => change({ ...request, base })}
    />
  );
}

/** Gives a file name the extension of a format. */
function rename(path: string, formats: Format[] | undefined, as: string | undefined): string {
  const extension = formats?.find((f) => f.name === as)?.extension;
  if (!path || !extension) return path;
  return path.replace(/\.[^./]+$/, "") + extension;
}

function Switch({ name, value, change }: { name: string; value: boolean; change: (value: boolean) => void }) {
  return (
    <label className="flex cursor-pointer items-start gap-3">
      <input
        type="checkbox"
        className="checkbox checkbox-sm mt-0.5"
        checked={value}
        onChange={(event) => change(event.target.checked)}
      />
      <span>{name}</span>
    </label>
  );
}
