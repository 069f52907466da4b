import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { may, onWhat, placesIn, useMe } from "../api/me.ts";
import { when } from "../format.ts";
import { Choice } from "./choice.tsx";
import { Failure } from "./failure.tsx";
import { People } from "./people.tsx";
import { Sessions } from "./sessions.tsx";
import { TextLine } from "./text-line.tsx";

type Token = Schemas["Token"];

/** Who is let in besides the service's own user, for who may say that, and what one may say of oneself. */
export function LetIn() {
  const me = useMe();
  return (
    <>
      {me.data?.role === "admin" && <People />}
      {me.data?.role === "admin" && <Tokens />}
      <Sessions />
    </>
  );
}

function Tokens() {
  const tokens = useQuery({ queryKey: ["tokens"], queryFn: () => items(calls.GET("/v1/tokens")) });
  return (
    <section className="sheet space-y-3" aria-label="Tokens">
      <h2>Tokens, for programs and the client</h2>
      {tokens.error && <Failure error={tokens.error} />}
      {tokens.data?.length === 0 && <p className="opacity-75">None but the one of the service itself.</p>}
      <ul className="divide-y divide-base-300">
        {tokens.data?.map((token) => (
          <TokenRow key={token.name} token={token} />
        ))}
      </ul>
      <NewToken />
    </section>
  );
}

function TokenRow({ token }: { token: Token }) {
  const client = useQueryClient();
  const revoke = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/tokens/{token}", { params: { path: { token: token.name } } })),
    onSuccess: () => client.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-1 py-2">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">{token.name}</p>
        <p className="text-sm opacity-75">
          {may[token.role]}; works {onWhat(token.works_on)};{" "}
          {token.expires ? `until ${when(token.expires)}` : "for ever"};{" "}
          {token.used ? `used ${when(token.used)}` : "never used"}
        </p>
        {revoke.error && <Failure error={revoke.error} />}
      </div>
      <button
        type="button"
        className="btn btn-sm"
        aria-label={`Revoke ${token.name}`}
        disabled={revoke.isPending}
        onClick={() => revoke.mutate()}
      >
        Revoke
      </button>
    </li>
  );
}

function NewToken() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState<keyof typeof may>("viewer");
  const [days, setDays] = useState("90");
  const [on, setOn] = useState("");
  const add = useMutation({
    mutationFn: () =>
      result(
        calls.POST("/v1/tokens", {
          body: { name, role, works_on: placesIn(on), ...(days ? { days: Number(days) } : {}) },
        }),
      ),
    onSuccess: () => {
      setName("");
      void client.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  return (
    <form
      className="flex flex-wrap items-end gap-3"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <TextLine name="Name of a new token" hint="night-watch" value={name} change={setName} />
      <Choice
        name="What it may"
        value={role}
        options={Object.keys(may)}
        show={(r) => may[r as keyof typeof may]}
        change={(r) => setRole(r as keyof typeof may)}
      />
      <TextLine name="What it is limited to" hint="everything" value={on} change={setOn} />
      <TextLine name="Days until it expires" hint="never" value={days} change={setDays} />
      <button type="submit" className="btn" disabled={!name || add.isPending}>
        Make it
      </button>
      {add.error && <Failure error={add.error} />}
      {add.data && (
        <p className="w-full">
          The secret of {add.data.name}, which is told this once:{" "}
          <output className="figures break-all select-all">{add.data.secret}</output>
        </p>
      )}
    </form>
  );
}
