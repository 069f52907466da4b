import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { calls, items, result, type Schemas } from "../api/client.ts";
import { useMe } from "../api/me.ts";
import { when } from "../format.ts";
import { Choice } from "./choice.tsx";
import { Failure } from "./failure.tsx";
import { Switch } from "./switch.tsx";
import { TextLine } from "./text-line.tsx";

type Kind = Schemas["NewChannel"]["kind"];

const ways: Record<Kind, string> = {
  web: "A web server, by signed calls",
  mail: "Mail",
  program: "A program of the service's computer",
};

const kinds: Record<Schemas["Told"], string> = {
  question: "a job asks",
  consent: "what waits for a second person",
  stopped: "a job does not go on",
  blocked: "a routine was not begun",
  failed: "a job failed",
  doubt: "something is damaged or not proven",
  away: "a pool is away",
  full: "a pool is full",
  drive: "a drive can be unplugged",
  done: "a job did what it was to",
};

/** When a channel is told something. */
function reasons(tells: Schemas["Told"][]): string {
  const needs = (Object.keys(kinds) as Schemas["Told"][]).filter((kind) => kind !== "done");
  if (!needs.every((kind) => tells.includes(kind))) return tells.map((kind) => kinds[kind]).join(", ");
  return "something needs somebody" + (tells.includes("done") ? `, ${kinds.done}` : "");
}

/** Who is told what happens, for who works here. */
export function Channels() {
  const me = useMe();
  const role = me.data?.role;
  const channels = useQuery({
    queryKey: ["channels"],
    queryFn: () => items(calls.GET("/v1/channels")),
    enabled: role === "operator" || role === "admin",
  });
  if (!channels.data) return null;
  return (
    <section className="sheet space-y-3" aria-label="Who is told what happens">
      <h2>Who is told what happens</h2>
      {channels.data.length === 0 && <p className="opacity-75">Nobody: whoever wants to know has to look.</p>}
      <ul className="divide-y divide-base-300">
        {channels.data.map((channel) => (
          <ChannelRow key={channel.name} channel={channel} admin={role === "admin"} />
        ))}
      </ul>
      {role === "admin" && <NewChannel />}
    </section>
  );
}

function ChannelRow({ channel, admin }: { channel: Schemas["Channel"]; admin: boolean }) {
  const client = useQueryClient();
  const params = { path: { channel: channel.name } };
  const again = () => client.invalidateQueries({ queryKey: ["channels"] });
  const attempt = useMutation({ mutationFn: () => result(calls.POST("/v1/channels/{channel}/try", { params })) });
  const remove = useMutation({
    mutationFn: () => result(calls.DELETE("/v1/channels/{channel}", { params })),
    onSuccess: again,
  });
  const { url, to, program } = channel.target;
  const error = attempt.error ?? remove.error;
  return (
    <li className="flex flex-wrap items-center gap-x-6 gap-y-1 py-2">
      <div className="min-w-0 grow">
        <p className="font-medium break-all">
          {channel.name}: {url ?? to?.join(", ") ?? program}
        </p>
        <p className="text-sm opacity-75">
          when {reasons(channel.tells)}; {channel.last ? `last ${when(channel.last)}` : "nothing yet"}
          {channel.waiting > 0 && `; ${channel.waiting} could not be told yet`}
        </p>
        {channel.problem && <p className="text-sm break-words text-error">{channel.problem}</p>}
        {attempt.isSuccess && <p role="status">It was accepted.</p>}
        {error && <Failure error={error} />}
      </div>
      <button
        type="button"
        className="btn btn-sm"
        aria-label={`Try it out: ${channel.name}`}
        disabled={attempt.isPending}
        onClick={() => attempt.mutate()}
      >
        Try it out
      </button>
      {admin && (
        <button
          type="button"
          className="btn btn-sm"
          aria-label={`Remove: ${channel.name}`}
          disabled={remove.isPending}
          onClick={() => remove.mutate()}
        >
          Remove
        </button>
      )}
    </li>
  );
}

function NewChannel() {
  const client = useQueryClient();
  const [kind, setKind] = useState<Kind>("web");
  const [name, setName] = useState("");
  const [target, setTarget] = useState<Schemas["ChannelTarget"]>({});
  const [password, setPassword] = useState("");
  const [done, setDone] = useState(false);
  const text = (part: "url" | "server" | "from" | "user" | "program") => ({
    value: target[part] ?? "",
    change: (value: string) => setTarget({ ...target, [part]: value || undefined }),
  });
  const tells = (Object.keys(kinds) as Schemas["Told"][]).filter((k) => done || k !== "done");
  const add = useMutation({
    mutationFn: () =>
      result(calls.POST("/v1/channels", { body: { name, kind, target, tells, ...(password ? { password } : {}) } })),
    onSuccess: () => {
      setName("");
      setTarget({});
      setPassword("");
      void client.invalidateQueries({ queryKey: ["channels"] });
    },
  });
  return (
    <form
      className="space-y-3"
      onSubmit={(event) => {
        event.preventDefault();
        add.mutate();
      }}
    >
      <div className="flex flex-wrap items-end gap-3">
        <TextLine name="Who is to be told" hint="night-watch" value={name} change={setName} />
        <Choice
          name="By what"
          value={kind}
          options={Object.keys(ways)}
          show={(k) => ways[k as Kind]}
          change={(k) => {
            setKind(k as Kind);
            setTarget({});
          }}
        />
        {kind === "web" && <TextLine name="Address" hint="https://bell.example/bagaglio" {...text("url")} />}
        {kind === "program" && <TextLine name="Program in /etc/bagaglio/notices" hint="ring" {...text("program")} />}
        {kind === "mail" && (
          <>
            <TextLine name="Mail server" hint="mail.example:587" {...text("server")} />
            <TextLine name="From" hint="bagaglio@quay.example" {...text("from")} />
            <TextLine
              name="To"
              hint="master@quay.example"
              value={target.to?.join(", ") ?? ""}
              change={(to) => setTarget({ ...target, to: to ? to.split(/,\s*/) : undefined })}
            />
            <TextLine name="User of the mail server" hint="nobody" {...text("user")} />
            <TextLine name="Password of that user" value={password} change={setPassword} fills="new-password" />
          </>
        )}
      </div>
      {kind === "mail" && (
        <Switch
          name="Also through a server that does not encrypt"
          on={target.in_the_clear}
          onChange={(on) => setTarget({ ...target, in_the_clear: on ?? undefined })}
        />
      )}
      <Switch name="Also when a job did what it was to" on={done} onChange={(on) => setDone(on === true)} />
      <button type="submit" className="btn" disabled={!name || add.isPending}>
        Tell them from now on
      </button>
      {add.error && <Failure error={add.error} />}
      {add.data?.secret && (
        <p>
          What messages to {add.data.name} are signed with, which is told this once:{" "}
          <output className="figures break-all select-all">{add.data.secret}</output>
        </p>
      )}
    </form>
  );
}
