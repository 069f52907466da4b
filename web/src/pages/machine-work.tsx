import { useQuery } from "@tanstack/react-query";
import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";
import { calls, items, result, type AnyRequest } from "../api/client.ts";
import { mend } from "../api/mend.ts";
import { Choice } from "../components/choice.tsx";
import { Outlook } from "../components/outlook.tsx";
import { TextLine } from "../components/text-line.tsx";
import { Switch } from "../components/switch.tsx";

/** What is done with a machine that stays on its host, beside what would happen. The request is in the address. */
export function MachineWorkPage() {
  const [search, setSearch] = useSearchParams();
  const [request, setRequest] = useState(
    () => JSON.parse(search.get("request") ?? '{"kind":"take-snapshot"}') as AnyRequest,
  );
  const change = (patch: Record<string, unknown>) => setRequest((now) => mend(now, { label: "", change: patch }));
  const written = JSON.stringify(request);
  useEffect(() => {
    if (search.get("request") !== written) setSearch({ request: written }, { replace: true });
  }, [search, setSearch, written]);
  const work = works[request.kind];
  if (!work || !request.machine) return <p>There is nothing here.</p>;
  const Fields = work.fields;
  return (
    <div className="space-y-6">
      <h1 className="break-all">{work.title(request)}</h1>
      <div className="grid items-start gap-6 md:grid-cols-2">
        <form className="sheet space-y-5" onSubmit={(event) => event.preventDefault()}>
          <p>{work.about}</p>
          <Fields request={request} change={change} />
        </form>
        <Outlook
          request={request}
          complete={work.complete(request)}
          current
          hint={work.hint}
          onRemedy={(remedy) => change(remedy.change)}
        />
      </div>
    </div>
  );
}

type FieldsProps = { request: AnyRequest; change: (patch: Record<string, unknown>) => void };

type Work = {
  title: (request: AnyRequest) => string;
  about: string;
  fields: (props: FieldsProps) => React.ReactNode;
  complete: (request: AnyRequest) => boolean;
  hint: string;
};

const none = () => null;
const always = () => true;

const works: Partial<Record<AnyRequest["kind"], Work>> = {
  "take-snapshot": {
    title: (r) => `Take a snapshot of ${r.machine}`,
    about:
      "Its host keeps the present state, of a machine that runs with its memory. It is no copy elsewhere: it is lost with the drive that it lies on.",
    fields: Taken,
    complete: (r) => Boolean(r.snapshot),
    hint: "Give it a name: the plan appears here.",
  },
  "go-back": {
    title: (r) => `${r.machine}: go back to ${r.snapshot}`,
    about: "The kept state becomes the present one.",
    fields: Back,
    complete: always,
    hint: "",
  },
  "drop-snapshot": {
    title: (r) => `${r.machine}: drop ${r.snapshot}`,
    about: "Its host forgets the kept state. The present one, and others, stay as they are.",
    fields: none,
    complete: always,
    hint: "",
  },
  "attach-disk": {
    title: (r) => `Give ${r.machine} a disk`,
    about: "A disk that lies in a pool of its host, and that no other machine has.",
    fields: Attached,
    complete: (r) => Boolean(r.source?.pool && r.source.path),
    hint: "Choose a disk: the plan appears here.",
  },
  "detach-disk": {
    title: (r) => `Take the disk ${r.slot} from ${r.machine}`,
    about: "Its files stay where they are: nothing is deleted.",
    fields: none,
    complete: always,
    hint: "",
  },
  "hand-disk": {
    title: (r) => `Hand the disk ${r.slot} of ${r.machine} over`,
    about: "Another machine gets it, and its files go into the folder of that one.",
    fields: Handed,
    complete: (r) => Boolean(r.to),
    hint: "Choose who gets it: the plan appears here.",
  },
  "pack-machine": {
    title: (r) => `Pack ${r.machine}`,
    about:
      "Its definition, its disks and a manifest become a package in the open form for that (DSP0243). The machine stays as it is.",
    fields: Packed,
    complete: (r) => Boolean(r.destination?.pool && r.destination.path),
    hint: "Choose where the package goes: the plan appears here.",
  },
  "remove-machine": {
    title: (r) => `Remove ${r.machine}`,
    about:
      "Its host forgets it, and its disks go into the holding folder with its definition. All of it comes back until it is dropped there for good.",
    fields: Removed,
    complete: always,
    hint: "",
  },
};

function Taken({ request, change }: FieldsProps) {
  return (
    <>
      <TextLine
        name="Name"
        value={request.snapshot ?? ""}
        change={(snapshot) => change({ snapshot: snapshot || null })}
      />
      <TextLine name="Notes" value={request.notes ?? ""} change={(notes) => change({ notes: notes || null })} />
      <Switch
        name="Only the disks, as a power cut would leave them: no memory is kept, and it does not stand still"
        on={request.disks_only}
        onChange={(disks_only) => change({ disks_only, at_rest: null })}
      />
      {request.disks_only && (
        <Switch
          name="Have the agent in the guest put its filesystems at rest for that moment"
          on={request.at_rest}
          onChange={(at_rest) => change({ at_rest })}
        />
      )}
    </>
  );
}

function Back({ request, change }: FieldsProps) {
  return (
    <TextLine
      name="Keep the present state as a snapshot"
      hint="Its name; empty loses what was written since"
      value={request.keep_present ?? ""}
      change={(name) => change({ keep_present: name || null })}
    />
  );
}

function Attached({ request, change }: FieldsProps) {
  const host = request.machine?.split(":")[0];
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const pool = request.source?.pool ?? "";
  const disks = useQuery({
    queryKey: ["pools", pool, "to attach"],
    queryFn: () => result(calls.GET("/v1/pools/{pool}/disks", { params: { path: { pool }, query: { limit: 500 } } })),
    enabled: Boolean(pool),
    refetchInterval: 3000, // what was found since
  });
  const free = disks.data?.items.filter((d) => d.machines.length === 0 && !d.problem) ?? [];
  return (
    <>
      <Choice
        name="Pool"
        value={pool}
        options={["", ...(pools.data ?? []).filter((p) => p.host === host).map((p) => p.name)]}
        show={(name) => name || "Choose one"}
        change={(name) => change({ source: { pool: name, path: "" } })}
      />
      <Choice
        name="Disk"
        value={request.source?.path ?? ""}
        options={["", ...free.map((d) => d.path)]}
        show={(path) => path || "Choose one"}
        change={(path) => change({ source: { pool, path } })}
      />
      <Choice
        name="Bus"
        value={request.bus ?? ""}
        options={["", "virtio", "scsi", "sata", "ide"]}
        show={(bus) => bus || "That of its first disk"}
        change={(bus) => change({ bus: bus || null })}
      />
      <Switch name="For reading only" on={request.read_only} onChange={(read_only) => change({ read_only })} />
    </>
  );
}

function Handed({ request, change }: FieldsProps) {
  const list = useQuery({ queryKey: ["machines"], queryFn: () => result(calls.GET("/v1/machines")) });
  const others = list.data?.items.map((m) => `${m.host}:${m.name}`).filter((name) => name !== request.machine) ?? [];
  return (
    <Choice
      name="Machine that gets it"
      value={request.to ?? ""}
      options={["", ...others]}
      show={(name) => name || "Choose one"}
      change={(to) => change({ to: to || null })}
    />
  );
}

function Packed({ request, change }: FieldsProps) {
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const pool = request.destination?.pool ?? "";
  const path = request.destination?.path ?? `${request.machine?.split(":")[1]}.ova`;
  return (
    <>
      <Choice
        name="Pool"
        value={pool}
        options={["", ...(pools.data ?? []).map((p) => p.name)]}
        show={(name) => name || "Choose one"}
        change={(name) => change({ destination: name ? { pool: name, path } : null })}
      />
      <TextLine
        name="Package"
        hint="NAME.ova is one archive; any other name is a folder with the files"
        value={path}
        change={(name) => change({ destination: { pool, path: name } })}
      />
      <Choice
        name="Form of its disks"
        value={request.as ?? ""}
        options={["", "qcow2", "vdi", "vhdx", "raw"]}
        show={(as) => as || "vmdk, stream: others read that best"}
        change={(as) => change({ as: as || null })}
      />
      <Switch name="Shut it down first, when it runs" on={request.stop} onChange={(stop) => change({ stop })} />
    </>
  );
}

function Removed({ request, change }: FieldsProps) {
  return <Switch name="Shut it down first, when it runs" on={request.stop} onChange={(stop) => change({ stop })} />;
}
