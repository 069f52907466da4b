import { useQuery } from "@tanstack/react-query";
import { calls, items, type AnyRequest } from "../api/client.ts";
import { mend } from "../api/mend.ts";
import { useRequest } from "../api/request.ts";
import { Choice } from "../components/choice.tsx";
import { DoneBy } from "../components/done-by.tsx";
import { MachineChanges } from "../components/machine-changes.tsx";
import { Outlook } from "../components/outlook.tsx";
import { Switch } from "../components/switch.tsx";
import { TextLine } from "../components/text-line.tsx";
import { TryOut } from "../components/try-out.tsx";

/** Moving or copying a machine: what is asked for beside what would happen. The request is in the address, so that it can be kept and sent. */
export function MachineMovePage() {
  const [request, setRequest] = useRequest<AnyRequest>(() => ({ kind: "move-machine" }));
  const change = (patch: Record<string, unknown>) => setRequest((now) => mend(now, { label: "", change: patch })); // of what it is by then, however fast somebody is
  const complete = Boolean((request.machine || request.source) && request.destination?.pool);
  return (
    <div className="space-y-6">
      <h1>
        {request.kind === "copy-machine" ? "Copy" : "Move"} {request.machine}
        {request.snapshot && ` as of ${request.snapshot}`}
      </h1>
      <div className="grid items-start gap-6 md:grid-cols-2">
        <form className="sheet space-y-5" onSubmit={(event) => event.preventDefault()}>
          <Fields request={request} change={change} />
          {request.machine && request.to && <TryOut machine={request.machine} host={request.to} />}
        </form>
        <Outlook
          request={request}
          complete={complete}
          current
          hint="Choose a pool of a host: the plan appears here."
          onRemedy={(remedy) => change(remedy.change)}
        />
      </div>
    </div>
  );
}

const works = {
  "move-machine": "Move: then it is there, and no more here",
  "copy-machine": "Copy: with a new identity",
} as const;

type FieldsProps = { request: AnyRequest; change: (patch: Record<string, unknown>) => void };

function Fields({ request, change }: FieldsProps) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => items(calls.GET("/v1/hosts")) });
  const formats = useQuery({ queryKey: ["formats"], queryFn: () => items(calls.GET("/v1/formats")) });
  const runs = new Set(hosts.data?.filter((h) => h.runs).map((h) => h.name));
  const places = (hosts.data && pools.data) ?? []; // whose host is known
  const hostOf = (pool: string) => {
    const host = places.find((p) => p.name === pool)?.host ?? "";
    return runs.has(host) ? host : "";
  };
  return (
    <>
      <Choice
        name="What to do"
        value={request.kind}
        options={Object.keys(works)}
        show={(kind) => works[kind as keyof typeof works]}
        change={(kind) =>
          change({
            kind,
            release: null,
            leave_source: null,
            suspend: null,
            snapshot: null,
            linked: null,
            live: null,
            fit: null,
            with_memory: null,
          })
        }
      />
      <Choice
        name="Pool of its disks"
        value={request.destination?.pool ?? ""}
        options={places.map((p) => p.name)}
        show={(pool) =>
          pool ? `${pool}${hostOf(pool) ? ` of ${hostOf(pool)}` : ", a folder that no host knows"}` : "Choose one"
        }
        change={(pool) =>
          change({
            to: hostOf(pool) || null,
            destination: { pool, path: "" },
            ...(hostOf(pool) ? {} : { start: null }),
          })
        }
      />
      <Choice
        name="Format of its disks"
        value={request.as ?? ""}
        options={["", ...(formats.data ?? []).map((f) => f.name)]}
        show={(as) => as || "What the pool asks for"}
        change={(as) => change({ as: as || null, layout: null, options: null })}
      />
      <TextLine
        name="Name in its new place"
        hint="The one that it has"
        value={request.name ?? ""}
        change={(name) => change({ name: name || null })}
      />
      {request.kind === "move-machine" && request.machine && (
        <Switch
          name="Move it while it runs: within its host it goes on, to another host it stops for a moment"
          on={request.live}
          onChange={(live) =>
            change({
              live,
              fit: null,
              with_memory: null,
              stop: null,
              start: null,
              release: null,
              leave_source: null,
              name: null,
            })
          }
        />
      )}
      {request.live && request.to && !request.machine?.startsWith(`${request.to}:`) && (
        <Switch
          name="Take along what it has in memory: it is not shut down, and goes on there where it was"
          on={request.with_memory}
          onChange={(with_memory) => change({ with_memory })}
        />
      )}
      {!request.live && (
        <Switch
          name="Shut it down first, when it runs"
          on={request.stop}
          onChange={(stop) => change({ stop, suspend: null })}
        />
      )}
      {request.kind === "copy-machine" && (
        <Switch
          name="Suspend it while its disks are read: as a power cut would leave them"
          on={request.suspend}
          onChange={(suspend) => change({ suspend, stop: null })}
        />
      )}
      {request.kind === "copy-machine" && request.machine?.startsWith(`${request.to}:`) && (
        <Switch
          name="Have its disks stand on those of the machine: nothing is copied"
          on={request.linked}
          onChange={(linked) => change({ linked, suspend: null, as: null, layout: null, options: null })}
        />
      )}
      {!request.live && !request.linked && (
        <Switch
          name="Fit its guest to its new place: on the copies, what it needs for another bus, firmware or network card"
          on={request.fit}
          onChange={(fit) => change({ fit })}
        />
      )}
      {request.to && !request.live && (
        <Switch name="Start it there, and see it come up" on={request.start} onChange={(start) => change({ start })} />
      )}
      {request.kind === "move-machine" && !request.live && (
        <Switch
          name="Hold the old disks out of the way"
          on={request.release}
          onChange={(release) => change({ release })}
        />
      )}
      <DoneBy by={request.by} change={(by) => change({ by: by ?? null })} />
      <MachineChanges request={request} change={change} pools={places.map((p) => p.name)} />
    </>
  );
}
