import { useQuery } from "@tanstack/react-query";
import { calls, result } from "./client.ts";

/** Who asks, and what they may. */
export function useMe() {
  return useQuery({ queryKey: ["me"], queryFn: () => result(calls.GET("/v1/me")), staleTime: Infinity });
}
