import { useQuery } from "@tanstack/react-query";
import { Archive, Package, Plus } from "lucide-react";
import { useEffect, useState } from "react";
import { Link, useParams } from "react-router";
import { calls, items, result, type Machine } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { isOn, MachineActions, MachineState, screenOf, workOf } from "../components/machine-actions.tsx";
import { MachineDisks } from "../components/machine-disks.tsx";
import { Snapshots } from "../components/snapshots.tsx";
import { State } from "../components/state.tsx";
import { when, workName } from "../format.ts";

/** One machine: what it is, where its disks lie, what it shows, and what was done with it. */
export function MachinePage() {
  const { host = "", name = "" } = useParams();
  const machine = useQuery({
    queryKey: ["machines", host, name],
    queryFn: () =>
      result(calls.GET("/v1/hosts/{host}/machines/{machine}", { params: { path: { host, machine: name } } })),
    refetchInterval: 5000,
  });
  const jobs = useQuery({
    queryKey: ["jobs", "of", host, name],
    queryFn: () => items(calls.GET("/v1/jobs", { params: { query: { machine: `${host}:${name}` } } })),
  });
  const is = machine.data;
  return (
    <div className="space-y-6">
      <h1 className="break-all">
        {host}:{name}
      </h1>
      {machine.error && <Failure error={machine.error} />}
      {is && (
        <>
          <section className="sheet flex flex-wrap items-center gap-4" aria-label="At present">
            <MachineState machine={is} />
            <MachineActions machine={is} />
            <span className="grow" />
            <Link className="btn btn-sm" to={workOf({ kind: "pack-machine", machine: `${host}:${name}` })}>
              <Package aria-hidden className="size-4" />
              Pack
            </Link>
            <Link className="btn btn-sm" to={workOf({ kind: "remove-machine", machine: `${host}:${name}` })}>
              <Archive aria-hidden className="size-4" />
              Remove
            </Link>
          </section>
          <div className="grid items-start gap-6 lg:grid-cols-2">
            <div className="space-y-6">
              <section className="sheet space-y-3" aria-label="What it is">
                <h2>What it is</h2>
                <dl className="grid grid-cols-[minmax(8rem,auto)_1fr] gap-x-4 gap-y-1 text-sm">
                  {is.facts
                    ?.filter((f) => !f.what.startsWith("disk "))
                    .map((f) => (
                      <Fact key={f.what} what={f.what} value={f.value} />
                    ))}
                </dl>
              </section>
              <Snapshots machine={is} />
            </div>
            <div className="space-y-6">
              {isOn(is) && <Screen machine={is} />}
              <section className="sheet space-y-3" aria-label="Disks">
                <div className="flex flex-wrap items-center gap-3">
                  <h2 className="grow">Disks</h2>
                  <Link className="btn btn-sm" to={workOf({ kind: "attach-disk", machine: `${host}:${name}` })}>
                    <Plus aria-hidden className="size-4" />
                    Attach one
                  </Link>
                </div>
                <MachineDisks disks={is.disks} bars of={`${host}:${name}`} />
              </section>
            </div>
          </div>
        </>
      )}
      {is && <Since host={host} name={name} />}
      {jobs.data && jobs.data.length > 0 && (
        <section className="sheet space-y-3" aria-label="What was done with it">
          <h2>What was done with it</h2>
          <ul className="divide-y divide-base-300">
            {jobs.data.map((job) => (
              <li key={job.id} className="flex flex-wrap items-center gap-x-4 gap-y-1 py-2">
                <Link className="link" to={`/jobs/${job.id}`}>
                  Job {job.id}: {workName(job.request)}
                </Link>
                <State job={job} />
                <span className="text-sm opacity-75">{when(job.created)}</span>
              </li>
            ))}
          </ul>
        </section>
      )}
    </div>
  );
}

/** What has changed since the last job that had to do with it, where there was one. */
function Since({ host, name }: { host: string; name: string }) {
  const since = useQuery({
    queryKey: ["machines", host, name, "since"],
    queryFn: () =>
      result(calls.GET("/v1/hosts/{host}/machines/{machine}/changes", { params: { path: { host, machine: name } } })),
    retry: false,
  });
  if (!since.data) return null;
  return (
    <section className="sheet space-y-3" aria-label="Since its last receipt">
      <h2>Since its last receipt</h2>
      <p className="text-sm">
        <Link className="link" to={`/jobs/${since.data.job}`}>
          Job {since.data.job}
        </Link>{" "}
        ended at {when(since.data.finished)}, {since.data.outcome}.
        {since.data.items.length === 0 && " Nothing has changed since."}
      </p>
      {since.data.items.length > 0 && (
        <div className="overflow-x-auto">
          <table className="table table-sm">
            <thead>
              <tr>
                <th>What</th>
                <th>Then</th>
                <th>Now</th>
              </tr>
            </thead>
            <tbody>
              {since.data.items.map((d) => (
                <tr key={d.what}>
                  <td>{d.what}</td>
                  <td className="break-all">{d.before || "nothing"}</td>
                  <td className="break-all">{d.after || "nothing"}</td>
                </tr>
              ))}
            </tbody>
          </table>
        </div>
      )}
    </section>
  );
}

function Fact({ what, value }: { what: string; value: string }) {
  return (
    <>
      <dt className="opacity-75">{what}</dt>
      <dd className="break-all">{value}</dd>
    </>
  );
}

const pictureEvery = 5000;

/** What a machine shows, looked at again and again. */
function Screen({ machine }: { machine: Machine }) {
  const [at, setAt] = useState(0);
  const [failed, setFailed] = useState(false);
  useEffect(() => {
    const timer = setInterval(() => setAt((n) => n + 1), pictureEvery);
    return () => clearInterval(timer);
  }, []);
  return (
    <section className="sheet space-y-3" aria-label="Screen">
      <h2>Screen</h2>
      <img
        className={failed ? "hidden" : "rounded-box border border-base-300"}
        src={`${screenOf(machine)}?at=${at}`}
        alt={`What ${machine.name} shows`}
        onLoad={() => setFailed(false)}
        onError={() => setFailed(true)}
      />
      {failed && <p className="opacity-75">There is no picture of it at present.</p>}
    </section>
  );
}
