import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { ShieldAlert, ShieldCheck } from "lucide-react";
import { useState } from "react";
import { calls, items, result, type Host } from "../api/client.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { LoginFields, loginFrom } from "../components/login-fields.tsx";
import { Porters } from "../components/porters.tsx";
import { TextField } from "../components/text-field.tsx";
import { TrialView } from "../components/trial-view.tsx";

/** The computers that pools lie on, and forms for new hosts and pools. */
export function HostsPage() {
  const hosts = useQuery({
    queryKey: ["hosts"],
    queryFn: () => items(calls.GET("/v1/hosts")),
    refetchInterval: 5000, // a porter that joins becomes one
  });
  return (
    <div className="space-y-6">
      <h1>Hosts</h1>
      <div className="flex flex-wrap items-start gap-3">
        <NewHost />
        <NewPool hosts={hosts.data?.map((h) => h.name) ?? []} />
      </div>
      {hosts.error && <Failure error={hosts.error} />}
      {hosts.data?.map((host) => (
        <HostSheet key={host.name} host={host} />
      ))}
      <Porters />
    </div>
  );
}

function HostSheet({ host }: { host: Host }) {
  const client = useQueryClient();
  const done = { onSuccess: () => client.invalidateQueries() };
  const path = { host: host.name };
  const trial = useMutation({ mutationFn: () => result(calls.POST("/v1/hosts/{host}/test", { params: { path } })) });
  const trust = useMutation({
    mutationFn: () =>
      result(calls.PATCH("/v1/hosts/{host}", { params: { path }, body: { trusted_key: host.shown_key ?? "" } })),
    ...done,
  });
  const change = useMutation({
    mutationFn: (form: FormData) =>
      result(calls.PATCH("/v1/hosts/{host}", { params: { path }, body: loginFrom(form) })),
    ...done,
  });
  const forget = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/hosts/{host}", { params: { path } })),
    ...done,
  });
  const error = trial.error ?? trust.error ?? change.error ?? forget.error;
  return (
    <section className="sheet space-y-3" aria-label={host.name}>
      <div className="flex flex-wrap items-center gap-x-6 gap-y-2">
        <h2>{host.name}</h2>
        <span className="text-sm opacity-75">
          {host.kind === "local" && "the service's own computer"}
          {host.kind === "porter" && "reached through its porter"}
          {(host.kind === "sftp" || host.kind === "http" || host.kind === "s3") && `${host.kind}, ${host.address}`}
          {host.user && host.kind !== "porter" && `, as ${host.user}`}
          {host.logs_in_with.length > 0 && ` with ${host.logs_in_with.join(", ")}`}
        </span>
        <span className="grow" />
        <button type="button" className="btn btn-sm" disabled={trial.isPending} onClick={() => trial.mutate()}>
          Try it out
        </button>
        {host.kind !== "local" && (
          <button
            type="button"
            className="btn btn-sm"
            onClick={() => window.confirm(`Forget the host ${host.name}?`) && forget.mutate()}
          >
            Forget
          </button>
        )}
      </div>
      {host.trusted_key && (
        <p className="flex items-center gap-2 text-sm break-all">
          <ShieldCheck aria-hidden className="size-4 shrink-0 text-success" />
          trusted by its key {host.trusted_key}
        </p>
      )}
      {host.shown_key && (
        <div role="alert" className="alert alert-warning alert-soft">
          <ShieldAlert aria-hidden className="size-5" />
          <span className="break-all">
            It shows the key <b>{host.shown_key}</b>
            {host.trusted_key && ", which is another one than until now"}. Compare it with what the host&apos;s keeper
            says.
          </span>
          <button type="button" className="btn btn-sm" onClick={() => trust.mutate()}>
            It is the same: trust it
          </button>
        </div>
      )}
      {host.kind !== "local" && host.kind !== "porter" && (
        <details className="text-sm">
          <summary className="cursor-pointer">Change how it is reached</summary>
          <form className="mt-3 max-w-xl space-y-3" action={(form) => change.mutate(form)}>
            <LoginFields kind={host.kind} address={host.address} user={host.user} />
            <button type="submit" className="btn btn-sm btn-primary" disabled={change.isPending}>
              Change {host.name}
            </button>
            {change.isSuccess && <p className="text-success">It is changed.</p>}
          </form>
        </details>
      )}
      {host.kind !== "http" && host.kind !== "s3" && <RunsForm host={host} />}
      {host.runs && <OwnStorage host={host.name} />}
      {error && <Failure error={error} />}
      {trial.data && <TrialView trial={trial.data} />}
    </section>
  );
}

const kinds = ["", "libvirt", "standin"] as const;
const kindNames: Record<string, string> = { "": "nothing", libvirt: "libvirt", standin: "a stand-in" };

/** What runs machines on a host. */
function RunsForm({ host }: { host: Host }) {
  const client = useQueryClient();
  const [runs, setRuns] = useState(host.runs ?? "");
  const change = useMutation({
    mutationFn: (form: FormData) => {
      const body = {
        runs,
        socket: String(form.get("socket") ?? ""),
        machines: String(form.get("machines") ?? ""),
      };
      return result(calls.PATCH("/v1/hosts/{host}", { params: { path: { host: host.name } }, body }));
    },
    onSuccess: () => client.invalidateQueries(),
  });
  return (
    <details className="text-sm">
      <summary className="cursor-pointer">Machines are run by {kindNames[host.runs ?? ""] ?? host.runs}</summary>
      <form className="mt-3 max-w-xl space-y-3" action={(form) => change.mutate(form)}>
        <Choice
          name="What runs them"
          value={runs}
          options={[...kinds]}
          show={(k) => kindNames[k] ?? k}
          change={setRuns}
        />
        {runs === "libvirt" && (
          <TextField
            name="socket"
            label="Its socket on the host"
            begin={host.socket}
            hint="/run/libvirt/libvirt-sock"
          />
        )}
        {runs && (
          <TextField
            name="machines"
            label={runs === "libvirt" ? "or its address, with TLS" : "The address of its API"}
            begin={host.machines}
            hint={runs === "libvirt" ? "tls://lighthouse.example" : "http://quay.example:2280"}
          />
        )}
        {change.error && <Failure error={change.error} />}
        <button type="submit" className="btn btn-sm btn-primary" disabled={change.isPending}>
          Change what runs machines on {host.name}
        </button>
        {change.isSuccess && <p className="text-success">It is changed.</p>}
      </form>
    </details>
  );
}

/** The storage pools that a host has of its own, each of which can become a pool. */
function OwnStorage({ host }: { host: string }) {
  const client = useQueryClient();
  const path = { host };
  const has = useQuery({
    queryKey: ["storage", host],
    queryFn: () => result(calls.GET("/v1/hosts/{host}/storage", { params: { path } })),
    retry: false,
  });
  const add = useMutation({
    mutationFn: (p: { name: string; folder: string }) => result(calls.POST("/v1/pools", { body: { ...p, host } })),
    onSuccess: () => client.invalidateQueries(),
  });
  if (has.error) return <Failure error={has.error} />;
  if (!has.data?.pools.length) return null;
  return (
    <div className="space-y-1 text-sm" role="group" aria-label={`storage of ${host}`}>
      {has.data.pools.map((p) => (
        <p key={p.name} className="flex flex-wrap items-center gap-x-3 gap-y-1">
          <span>
            Its own storage pool <b>{p.name}</b> in <span className="font-mono">{p.folder}</span>
            {p.pool && `: the pool ${p.pool}`}
          </span>
          {!p.pool && (
            <button
              type="button"
              className="btn btn-xs"
              disabled={add.isPending}
              onClick={() => add.mutate({ name: p.name, folder: p.folder })}
            >
              Make it a pool
            </button>
          )}
        </p>
      ))}
      {add.error && <Failure error={add.error} />}
    </div>
  );
}

type FoldedProps = { name: string; open: boolean; toggle: (open: boolean) => void; children: React.ReactNode };

/** A form that is there when it is asked for. */
function Folded({ name, open, toggle, children }: FoldedProps) {
  return (
    <div className={open ? "sheet w-full max-w-xl" : ""}>
      <button
        type="button"
        className={`btn btn-sm ${open ? "" : "btn-outline"}`}
        aria-expanded={open}
        onClick={() => toggle(!open)}
      >
        {name}
      </button>
      {open && children}
    </div>
  );
}

type HostKind = "sftp" | "http" | "s3";

const hostKinds: Record<HostKind, string> = {
  sftp: "a computer with SSH",
  http: "a web server, only to read from",
  s3: "an object store (S3 protocol)",
};

function NewHost() {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [kind, setKind] = useState<HostKind>("sftp");
  const add = useMutation({
    mutationFn: (form: FormData) =>
      result(calls.POST("/v1/hosts", { body: { name: String(form.get("name")), kind, ...loginFrom(form) } })),
    onSuccess: () => {
      setOpen(false);
      return client.invalidateQueries({ queryKey: ["hosts"] });
    },
  });
  return (
    <Folded name="New host" open={open} toggle={setOpen}>
      <form className="mt-4 space-y-3" action={(form) => add.mutate(form)}>
        <Choice
          name="Kind"
          value={kind}
          options={Object.keys(hostKinds)}
          show={(k) => hostKinds[k as HostKind]}
          change={(k) => setKind(k as HostKind)}
        />
        <TextField name="name" label="Name of the host" />
        <LoginFields kind={kind} />
        {add.error && <Failure error={add.error} />}
        <button type="submit" className="btn btn-primary" disabled={add.isPending}>
          Add the host
        </button>
      </form>
    </Folded>
  );
}

function NewPool({ hosts }: { hosts: string[] }) {
  const client = useQueryClient();
  const [open, setOpen] = useState(false);
  const [host, setHost] = useState("local");
  const add = useMutation({
    mutationFn: (form: FormData) => {
      const body = { name: String(form.get("pool")), folder: String(form.get("folder")), host };
      return result(calls.POST("/v1/pools", { body }));
    },
    onSuccess: () => client.invalidateQueries({ queryKey: ["pools"] }),
  });
  return (
    <Folded name="New pool" open={open} toggle={setOpen}>
      <form className="mt-4 space-y-3" action={(form) => add.mutate(form)}>
        <Choice name="Host" value={host} options={hosts} change={setHost} />
        <TextField name="pool" label="Name of the pool" />
        <TextField name="folder" label="Folder on the host" />
        {add.error && <Failure error={add.error} />}
        {add.data && <p className="text-success">{add.data.name} is added.</p>}
        <button type="submit" className="btn btn-primary" disabled={add.isPending}>
          Add the pool
        </button>
      </form>
    </Folded>
  );
}
