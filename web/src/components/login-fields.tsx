import type { Schemas } from "../api/client.ts";
import { TextField } from "./text-field.tsx";

type Props = { kind: string; address?: string; user?: string };

/** The fields of a form that say how a host is reached, and as whom. Secrets are never shown: what is left empty stays. */
export function LoginFields({ kind, address, user }: Props) {
  return (
    <>
      <TextField
        name="address"
        label={kind === "sftp" ? "Address (HOST or HOST:PORT)" : "Address (https://HOST)"}
        begin={address}
      />
      <TextField name="user" label={kind === "s3" ? "Access key" : "User"} begin={user} />
      <TextField name="password" label={kind === "s3" ? "Secret key" : "Password"} secret />
      {kind === "sftp" && (
        <>
          <label className="block">
            <span className="text-sm">Private key (PEM)</span>
            <textarea className="textarea h-20 w-full font-mono text-xs" name="key" autoComplete="off" />
          </label>
          <label className="flex items-center gap-2">
            <input type="checkbox" className="checkbox checkbox-sm" name="agent" />
            Log in with the SSH agent of the service&apos;s user
          </label>
        </>
      )}
      <p className="text-sm opacity-75">Passwords and keys are kept encrypted, and never shown again.</p>
    </>
  );
}

/** What a form with these fields says. The login is absent when no secret was given. */
export function loginFrom(form: FormData): { address: string; user: string; login?: Schemas["Secrets"] } {
  const text = (name: string) => String(form.get(name) ?? "");
  const login = {
    password: text("password") || undefined,
    key: text("key") || undefined,
    agent: form.get("agent") === "on" || undefined,
  };
  const given = Object.values(login).some((secret) => secret !== undefined);
  return { address: text("address"), user: text("user"), login: given ? login : undefined };
}
