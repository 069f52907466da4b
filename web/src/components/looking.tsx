import { useMutation, useQueryClient } from "@tanstack/react-query";
import { calls, result, type DiskList } from "../api/client.ts";
import { when } from "../format.ts";

/** Has a pool looked through again, and everybody who shows what is in it know. */
export function useLook(pool: string) {
  const cache = useQueryClient();
  return useMutation({
    mutationFn: () =>
      result(calls.GET("/v1/pools/{pool}/disks", { params: { path: { pool }, query: { refresh: true, limit: 1 } } })),
    onSettled: () => cache.invalidateQueries({ queryKey: ["disks", pool] }),
  });
}

/** Says as of when a list holds, how far a look through the pool is, and what could not be looked at. */
export function KnownAsOf({ list }: { list: DiskList }) {
  const missed = list.missed[0];
  return (
    <span className="text-sm opacity-75">
      {list.refreshed ? `as of ${when(list.refreshed)}` : "found so far"}
      {list.refreshing && list.of > 0 && `, looking: ${list.seen} of ${list.of} files`}
      {missed && (
        <span title={list.missed.map((m) => `${m.name}: ${m.why}`).join("\n")}>
          , {list.missed.length} not looked at ({missed.name}: {missed.why})
        </span>
      )}
    </span>
  );
}
