import { useQuery } from "@tanstack/react-query";
import { calls, items } from "../api/client.ts";
import { Choice } from "./choice.tsx";

/** Who does the work, where there are porters. */
export function DoneBy({ by, change }: { by?: string; change: (by?: string) => void }) {
  const porters = useQuery({ queryKey: ["porters"], queryFn: () => items(calls.GET("/v1/porters")) });
  if (!by && !porters.data?.length) return null;
  const names = ["", "service", ...(porters.data?.map((p) => p.name) ?? [])];
  return (
    <Choice
      name="Done by"
      value={by ?? ""}
      options={names.includes(by ?? "") ? names : [...names, by ?? ""]}
      show={(name) => name || "whoever moves the fewest bytes over the slowest lines"}
      change={(name) => change(name || undefined)}
    />
  );
}
