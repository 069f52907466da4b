import { calls, result, type Seal } from "./client.ts";

/** What a check of all receipts found. */
export type Checked = { count: number; head: string; key?: string; broken?: string };

/** Checks in this browser that each receipt is as it was signed, and stands behind the one before. */
export async function checkReceipts(): Promise<Checked> {
  const checked: Checked = { count: 0, head: "" };
  for (;;) {
    const { key, seals, head } = await result(
      calls.GET("/v1/receipts", { params: { query: { after: checked.count } }, cache: "no-store" }),
    );
    checked.key = JSON.stringify(key, null, 2);
    if (seals.length === 0) {
      const whole = head.number === checked.count && head.digest === checked.head;
      return whole ? checked : { ...checked, broken: "The last receipts were taken out or replaced." };
    }
    const { kty, crv, x } = key as Record<string, string>;
    const public_ = await crypto.subtle.importKey("jwk", { kty, crv, x }, { name: "Ed25519" }, false, ["verify"]);
    for (const seal of seals) {
      const broken = await check(seal, public_, checked);
      if (broken) return { ...checked, broken };
      checked.count++;
      checked.head = await digest(seal.seal);
    }
  }
}

/** Says what is wrong with a seal, if something is. */
async function check(seal: Seal, key: CryptoKey, before: Checked): Promise<string | undefined> {
  const [head = "", body = "", signature = ""] = seal.seal.split(".");
  const text = new TextEncoder().encode(`${head}.${body}`);
  if (!(await crypto.subtle.verify({ name: "Ed25519" }, key, bytes(signature), text))) {
    return `The receipt of job ${seal.job} was changed since it was signed, or is signed by another key.`;
  }
  const link = JSON.parse(new TextDecoder().decode(bytes(body))) as { number: number; previous: string };
  if (link.number !== before.count + 1 || link.previous !== before.head) {
    return `The receipt of job ${seal.job} does not stand behind the one before: one was taken out or put in.`;
  }
  return undefined;
}

async function digest(seal: string): Promise<string> {
  const sum = new Uint8Array(await crypto.subtle.digest("SHA-256", new TextEncoder().encode(seal)));
  return btoa(String.fromCharCode(...sum))
    .replaceAll("+", "-")
    .replaceAll("/", "_")
    .replaceAll("=", "");
}

function bytes(base64url: string): Uint8Array<ArrayBuffer> {
  const text = atob(base64url.replaceAll("-", "+").replaceAll("_", "/"));
  return Uint8Array.from(text, (c) => c.charCodeAt(0));
}
