import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { may, onWhat, placesIn } from "../api/me.ts";
import { when } from "../format.ts";
import { Choice } from "./choice.tsx";
import { Failure } from "./failure.tsx";
import { TextLine } from "./text-line.tsx";

type Role = Schemas["Role"];

/** Who signs in by name and password. */
export function People() {
  const people = useQuery({ queryKey: ["people"], queryFn: () => items(calls.GET("/v1/people")) });
  return (
    <section className="sheet space-y-3" aria-label="People">
      <h2>People, who sign in</h2>
      {people.error && <Failure error={people.error} />}
      {people.data?.length === 0 && (
        <p className="opacity-75">Nobody signs in by name and password yet: whoever comes has a link.</p>
      )}
      <ul className="divide-y divide-base-300">
        {people.data?.map((person) => (
          <PersonRow key={person.name} person={person} />
        ))}
      </ul>
      <NewPerson />
    </section>
  );
}

function PersonRow({ person }: { person: Schemas["KnownPerson"] }) {
  const client = useQueryClient();
  const done = { onSuccess: () => client.invalidateQueries({ queryKey: ["people"] }) };
  const params = { path: { person: person.name } };
  const change = useMutation({
    mutationFn: (role: Role) => result(calls.PATCH("/v1/people/{person}", { params, body: { role } })),
    ...done,
  });
  const remove = useMutation({ mutationFn: () => result(calls.DELETE("/v1/people/{person}", { params })), ...done });
  const error = change.error ?? remove.error;
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-1 py-2">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">{person.name}</p>
        <p className="text-sm opacity-75">
          works {onWhat(person.works_on)}; {person.used ? `signed in ${when(person.used)}` : "never signed in"}
        </p>
        {error && <Failure error={error} />}
      </div>
      <Choice
        name={`What ${person.name} may`}
        value={person.role}
        options={Object.keys(may)}
        show={(role) => may[role as Role]}
        change={(role) => change.mutate(role as Role)}
      />
      <button
        type="button"
        className="btn btn-sm"
        aria-label={`Remove ${person.name}`}
        disabled={remove.isPending}
        onClick={() => remove.mutate()}
      >
        Remove
      </button>
    </li>
  );
}

function NewPerson() {
  const client = useQueryClient();
  const [name, setName] = useState("");
  const [role, setRole] = useState<Role>("viewer");
  const [password, setPassword] = useState("");
  const [on, setOn] = useState("");
  const add = useMutation({
    mutationFn: () => result(calls.POST("/v1/people", { body: { name, role, password, works_on: placesIn(on) } })),
    onSuccess: () => {
      setName("");
      setPassword("");
      void client.invalidateQueries({ queryKey: ["people"] });
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
      <TextLine name="Name of somebody new" hint="harbour-master" value={name} change={setName} />
      <Choice
        name="What they may"
        value={role}
        options={Object.keys(may)}
        show={(r) => may[r as Role]}
        change={(r) => setRole(r as Role)}
      />
      <TextLine name="What they are limited to" hint="everything" value={on} change={setOn} />
      <TextLine
        name="Their password"
        hint="12 characters or more"
        value={password}
        change={setPassword}
        fills="new-password"
      />
      <button type="submit" className="btn" disabled={!name || !password || add.isPending}>
        Let them sign in
      </button>
      {add.error && <Failure error={add.error} />}
    </form>
  );
}
