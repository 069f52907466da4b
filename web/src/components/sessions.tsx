import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { when } from "../format.ts";
import { Failure } from "./failure.tsx";
import { TextLine } from "./text-line.tsx";

/** The sessions that somebody may end, and their own password. */
export function Sessions() {
  const sessions = useQuery({ queryKey: ["sessions"], queryFn: () => items(calls.GET("/v1/sessions")) });
  const signedIn = sessions.data?.find((session) => session.this)?.who;
  return (
    <section className="sheet space-y-3" aria-label="Sessions">
      <h2>Sessions of the console</h2>
      {sessions.error && <Failure error={sessions.error} />}
      <ul className="divide-y divide-base-300">
        {sessions.data?.map((session) => (
          <SessionRow key={session.id} session={session} />
        ))}
      </ul>
      {signedIn && <OwnPassword name={signedIn} />}
    </section>
  );
}

function SessionRow({ session }: { session: Schemas["Session"] }) {
  const client = useQueryClient();
  const end = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/sessions/{session}", { params: { path: { session: session.id } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["sessions"] }),
  });
  const who = session.who ?? "by a link";
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-1 py-2">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">
          {who}, {session.role}
          {session.this && " (this one)"}
        </p>
        <p className="text-sm opacity-75">
          from {session.from}, since {when(session.begun)}, until {when(session.expires)}
        </p>
        {end.error && <Failure error={end.error} />}
      </div>
      {!session.this && (
        <button
          type="button"
          className="btn btn-sm"
          aria-label={`End the session of ${who} from ${session.from}, since ${when(session.begun)}`}
          disabled={end.isPending}
          onClick={() => end.mutate()}
        >
          End
        </button>
      )}
    </li>
  );
}

function OwnPassword({ name }: { name: string }) {
  const client = useQueryClient();
  const [old, setOld] = useState("");
  const [password, setPassword] = useState("");
  const change = useMutation({
    mutationFn: () => result(calls.PUT("/v1/me/password", { body: { old, new: password } })),
    onSuccess: () => {
      setOld("");
      setPassword("");
      void client.invalidateQueries({ queryKey: ["sessions"] });
    },
  });
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        change.mutate();
      }}
    >
      <TextLine name={`Old password of ${name}`} value={old} change={setOld} fills="current-password" />
      <TextLine
        name="New password"
        hint="12 characters or more"
        value={password}
        change={setPassword}
        fills="new-password"
      />
      <button type="submit" className="btn" disabled={!old || !password || change.isPending}>
        Change it
      </button>
      {change.error && <Failure error={change.error} />}
      {change.isSuccess && <p role="status">It is changed. Your other sessions are ended.</p>}
    </form>
  );
}
