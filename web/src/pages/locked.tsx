import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, result } from "../api/client.ts";
import { useHealth } from "../api/health.ts";
import { Failure } from "../components/failure.tsx";
import { TextLine } from "../components/text-line.tsx";

const notSignedIn: Record<string, string> = {
  again: "That sign-in was not begun here, or too long ago. Try it again.",
  role: "You are known there, and none of your groups may do anything here. Ask who administers this service.",
  name: "Somebody else is called so here already. Ask who administers this service.",
  provider: "Who signs people in did not answer as it should. Try it again, or ask who administers this service.",
};

/** What somebody sees who has no session. */
export function LockedPage() {
  const search = new URLSearchParams(window.location.search);
  const used = search.get("link") === "used";
  const refused = notSignedIn[search.get("openid") ?? ""];
  const health = useHealth();
  return (
    <main className="mx-auto max-w-xl space-y-6 px-4 py-24">
      {refused && <Failure error={new Error(refused)} />}
      <SignIn />
      {health.data?.openid && (
        <div className="sheet space-y-4">
          <h2>With your account elsewhere</h2>
          <a className="btn" href="/openid">
            Sign in there
          </a>
        </div>
      )}
      <div className="sheet space-y-4">
        <h2>{used ? "This link has been used, or is too old" : "Or come by a link"}</h2>
        <p>Each link opens the console once. On the computer of the service, this prints a new one:</p>
        <pre className="figures rounded-field bg-base-200 p-3">bagaglio console</pre>
      </div>
    </main>
  );
}

function SignIn() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [password, setPassword] = useState("");
  const enter = useMutation({
    mutationFn: () => result(calls.POST("/v1/session", { body: { name, password } })),
    onSuccess: () => client.resetQueries(),
  });
  return (
    <form
      className="sheet space-y-4"
      onSubmit={(event) => {
        event.preventDefault();
        enter.mutate();
      }}
    >
      <h1>The console is locked</h1>
      <TextLine name="Name" value={name} change={setName} fills="username" />
      <TextLine name="Password" value={password} change={setPassword} fills="current-password" />
      <button type="submit" className="btn btn-primary" disabled={!name || !password || enter.isPending}>
        Sign in
      </button>
      {enter.error && <Failure error={enter.error} />}
    </form>
  );
}
