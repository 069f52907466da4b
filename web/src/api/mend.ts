import type { AnyRequest, Remedy } from "./client.ts";

/** Applies a remedy: a JSON Merge Patch (RFC 7396). */
export function mend<R extends AnyRequest>(request: R, remedy: Remedy): R {
  return merge(request, remedy.change) as R;
}

function merge(target: unknown, patch: unknown): unknown {
  if (patch === null || typeof patch !== "object" || Array.isArray(patch)) return patch;
  const out = new Map(Object.entries(target ?? {}));
  for (const [key, value] of Object.entries(patch)) {
    if (value === null) out.delete(key);
    else out.set(key, merge(out.get(key), value));
  }
  return Object.fromEntries(out);
}
