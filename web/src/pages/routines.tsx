import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useSearchParams } from "react-router";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { TextLine } from "../components/text-line.tsx";
import { when } from "../format.ts";

type Routine = Schemas["Routine"];
type Work = Schemas["RoutineWork"];

/** Work that is done again and again, by hand or when its time comes. */
export function RoutinesPage() {
  const routines = useQuery({
    queryKey: ["routines"],
    queryFn: () => items(calls.GET("/v1/routines")),
    refetchInterval: (query) => (query.state.data?.some((r) => r.runs[0]?.over === false) ? 500 : 10_000),
  });
  return (
    <div className="space-y-6">
      <h1>Routines</h1>
      {routines.error && <Failure error={routines.error} />}
      {routines.data?.length === 0 && (
        <p>Nothing is done again and again yet. Compose something and keep it as a routine, or write one below.</p>
      )}
      {routines.data?.map((routine) => (
        <RoutineSheet key={routine.work.name} routine={routine} />
      ))}
      <NewRoutine />
    </div>
  );
}

function RoutineSheet({ routine: { work, next, runs } }: { routine: Routine }) {
  const client = useQueryClient();
  const [said, setSaid] = useState<Record<string, string>>({});
  const again = { onSuccess: () => client.invalidateQueries({ queryKey: ["routines"] }) };
  const params = { path: { routine: work.name } };
  const blanks = Object.fromEntries(Object.entries(said).filter(([, text]) => text));
  const run = useMutation({
    mutationFn: () => result(calls.POST("/v1/routines/{routine}/runs", { params, body: { blanks } })),
    ...again,
  });
  const remove = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/routines/{routine}", { params })),
    ...again,
  });
  const error = run.error ?? remove.error;
  return (
    <section className="sheet space-y-3" aria-label={work.name}>
      <div className="flex flex-wrap items-baseline gap-x-6">
        <h2 className="grow">{work.name}</h2>
        <span className="text-sm">{next ? `next at ${when(next)}` : "when somebody says so"}</span>
      </div>
      {work.note && <p>{work.note}</p>}
      <ul className="text-sm">
        {runs.slice(0, 5).map((one) => (
          <li key={one.id}>
            <span className="opacity-75">
              {when(one.due)}, {one.who}:
            </span>{" "}
            <Came run={one} />
          </li>
        ))}
      </ul>
      <div className="flex flex-wrap items-end gap-3">
        {Object.entries(work.blanks ?? {}).map(([blank, text]) => (
          <TextLine
            key={blank}
            name={`<${blank}>`}
            hint={text}
            value={said[blank] ?? ""}
            change={(value) => setSaid({ ...said, [blank]: value })}
          />
        ))}
        <button
          type="button"
          className="btn btn-primary"
          aria-label={`Do it now: ${work.name}`}
          disabled={run.isPending}
          onClick={() => run.mutate()}
        >
          Do it now
        </button>
        <button
          type="button"
          className="btn"
          aria-label={`Forget it: ${work.name}`}
          disabled={remove.isPending}
          onClick={() => remove.mutate()}
        >
          Forget it
        </button>
      </div>
      {error && <Failure error={error} />}
      <details className="text-sm">
        <summary className="cursor-pointer">As it is kept</summary>
        <pre className="figures mt-2 rounded-field bg-base-200 p-3 break-all whitespace-pre-wrap">
          {JSON.stringify(work, null, 2)}
        </pre>
      </details>
    </section>
  );
}

/** What came of a run. */
function Came({ run }: { run: Schemas["Run"] }) {
  if (!run.over) return <>is being planned</>;
  if (run.problem) return <span className="text-error">not begun: {run.problem}</span>;
  return (
    <>
      {run.group ? (
        <Link className="link" to="/jobs">
          group {run.group}
        </Link>
      ) : (
        "nothing was to be done"
      )}
      {run.left_out && <span className="text-error">; left out: {run.left_out.join("; ")}</span>}
    </>
  );
}

function NewRoutine() {
  const client = useQueryClient();
  const [search] = useSearchParams();
  const [name, setName] = useState("");
  const [cron, setCron] = useState("");
  const [missed, setMissed] = useState<"run" | "skip">("run");
  const [rest, setRest] = useState(() => restOf(search.get("request")));
  const keep = useMutation({
    mutationFn: async () => {
      const work = { ...(JSON.parse(rest) as Omit<Work, "name">), name, ...(cron && { times: { cron, missed } }) };
      return result(calls.PUT("/v1/routines/{routine}", { params: { path: { routine: name } }, body: work }));
    },
    onSuccess: () => {
      setName("");
      void client.invalidateQueries({ queryKey: ["routines"] });
    },
  });
  return (
    <form
      className="sheet space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        keep.mutate();
      }}
    >
      <h2>Keep a routine</h2>
      <div className="grid gap-3 sm:grid-cols-3">
        <TextLine name="Its name" hint="monthly-proof" value={name} change={setName} />
        <TextLine
          name="Minute, hour, day, month, day of the week"
          hint="30 2 1 * * (or nothing)"
          value={cron}
          change={setCron}
        />
        <Choice
          name="When its time was missed"
          value={missed}
          options={["run", "skip"]}
          show={(m) => (m === "run" ? "make it good, once" : "wait for the next one")}
          change={(m) => setMissed(m as "run" | "skip")}
        />
      </div>
      <label className="block">
        <span className="text-sm">
          What it does (JSON): requests, whose texts may have blanks, as {"<pool>"}; for each of the disks of a pool, or
          of the machines of a host
        </span>
        <textarea
          className="textarea figures h-64 w-full"
          spellCheck={false}
          value={rest}
          onChange={(event) => setRest(event.target.value)}
        />
      </label>
      <button type="submit" className="btn btn-primary" disabled={!name || keep.isPending}>
        Keep it
      </button>
      {keep.error && <Failure error={keep.error} />}
    </form>
  );
}

/** A routine without its name: of a request that was composed, or one to begin with. */
function restOf(request: string | null): string {
  const work = request
    ? { requests: [JSON.parse(request) as object] }
    : {
        blanks: { pool: "" },
        each: { disks_of: "<pool>", tagged: true },
        requests: [{ kind: "prove", source: { pool: "<pool>", path: "<path>" }, tag: "beside" }],
        leave_out: true,
      };
  return JSON.stringify(work, null, 2);
}
