import { useQuery } from "@tanstack/react-query";
import { calls, type Health } from "./client.ts";

/** Whether the service is well, asked again and again; its error is that it does not answer. */
export function useHealth() {
  return useQuery({
    queryKey: ["health"],
    queryFn: async (): Promise<Health | undefined> => {
      const { data, error } = await calls.GET("/v1/health");
      return data ?? (error as Health | undefined);
    },
    refetchInterval: 5000,
    retry: false,
  });
}
