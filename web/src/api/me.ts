import { useQuery } from "@tanstack/react-query";
import { calls, result } from "./client.ts";

/** Who asks, and what they may. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => result(calls.GET("/v1/me")), staleTime: Infinity });
}

/** What each role may. */
export const may = {
  viewer: "viewer: looks and plans",
  operator: "operator: works with jobs, machines and disks",
  admin: "admin: also decides where: hosts, pools, limits, who is let in",
};

/** Where somebody works, in words. */
export function onWhat(places?: string[]): string {
  return `on ${places?.join(", ") ?? "everything"}`;
}

/** The places that were written, with spaces or commas between. */
export function placesIn(text: string): string[] {
  return text.split(/[\s,]+/).filter(Boolean);
}
