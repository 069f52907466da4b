import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { when } from "../format.ts";
import { Failure } from "./failure.tsx";
import { LinesMap } from "./lines-map.tsx";
import { TextLine } from "./text-line.tsx";

type Porter = Schemas["Porter"];

const states: Record<Porter["state"], string> = {
  invited: "invited, and has not joined yet",
  connected: "connected",
  paused: "paused: it is given no more work",
  away: "not connected",
};

/** The computers near storage that work for the service, and a form to invite another one. */
export function Porters() {
  const porters = useQuery({
    queryKey: ["porters"],
    queryFn: () => items(calls.GET("/v1/porters")),
    refetchInterval: 5000,
  });
  return (
    <section className="sheet space-y-3" aria-label="Porters">
      <h2>Porters: computers near storage that work for the service</h2>
      {porters.error && <Failure error={porters.error} />}
      {porters.data?.length === 0 && (
        <p className="opacity-75">None: the service does all work itself, and what is copied goes through it.</p>
      )}
      <LinesMap porters={porters.data ?? []} />
      <ul className="divide-y divide-base-300">
        {porters.data?.map((porter) => (
          <PorterRow key={porter.name} porter={porter} />
        ))}
      </ul>
      <Invite />
    </section>
  );
}

function PorterRow({ porter }: { porter: Porter }) {
  const client = useQueryClient();
  const path = { porter: porter.name };
  const done = { onSuccess: () => client.invalidateQueries({ queryKey: ["porters"] }) };
  const paused = porter.state === "paused";
  const pause = useMutation({
    mutationFn: (drain: boolean) =>
      result(calls.PATCH("/v1/porters/{porter}", { params: { path }, body: { paused: drain || !paused, drain } })),
    ...done,
  });
  const revoke = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/porters/{porter}", { params: { path } })),
    ...done,
  });
  const error = pause.error ?? revoke.error;
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-1 py-2">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">{porter.name}</p>
        <p className="text-sm opacity-75">
          {states[porter.state]}; {porter.seen ? `heard ${when(porter.seen)}` : "never heard"}
          {porter.version && `; version ${porter.version}`}
          {porter.outdated && ", other than the service's: install that there, and start it again"}
        </p>
        {porter.jobs.length > 0 && (
          <p className="flex flex-wrap gap-3 text-sm">
            {porter.jobs.map((job) => (
              <Link key={job} className="link" to={`/jobs/${job}`}>
                Job {job}
              </Link>
            ))}
          </p>
        )}
        {error && <Failure error={error} />}
      </div>
      <button
        type="button"
        className="btn btn-sm"
        aria-label={`${paused ? "Resume" : "Pause"} ${porter.name}`}
        disabled={pause.isPending}
        onClick={() => pause.mutate(false)}
      >
        {paused ? "Resume" : "Pause"}
      </button>
      {porter.jobs.length > 0 && (
        <button
          type="button"
          className="btn btn-sm"
          aria-label={`Drain ${porter.name}`}
          title="Give it no more work, and have what it does go on elsewhere"
          disabled={pause.isPending}
          onClick={() => pause.mutate(true)}
        >
          Drain
        </button>
      )}
      <button
        type="button"
        className="btn btn-sm"
        aria-label={`Revoke ${porter.name}`}
        disabled={revoke.isPending}
        onClick={() =>
          window.confirm(`Let ${porter.name} in no more? Its jobs stop where they are, and wait.`) && revoke.mutate()
        }
      >
        Revoke
      </button>
    </li>
  );
}

function Invite() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const invite = useMutation({
    mutationFn: () => result(calls.POST("/v1/porters", { body: { name } })),
    onSuccess: () => {
      setName("");
      void client.invalidateQueries({ queryKey: ["porters"] });
    },
  });
  const file = invite.data && `${invite.data.porter}.invitation`;
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        invite.mutate();
      }}
    >
      <TextLine name="Name of a new porter" hint="annex" value={name} change={setName} />
      <button type="submit" className="btn" disabled={!name || invite.isPending}>
        Invite it
      </button>
      {invite.error && <Failure error={invite.error} />}
      {invite.data && file && (
        <p className="w-full">
          <a
            className="link"
            download={file}
            href={`data:application/json,${encodeURIComponent(JSON.stringify(invite.data))}`}
          >
            {file}
          </a>{" "}
          is good once, until {when(invite.data.expires)}. On that computer:{" "}
          <output className="figures wrap-anywhere select-all">
            bagaglio porter --join {location.hostname}:{invite.data.listens.replace(/^.*:/, "")} --invitation {file}
          </output>
        </p>
      )}
    </form>
  );
}
