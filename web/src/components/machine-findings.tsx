import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { calls, result, type AnyRequest } from "../api/client.ts";
import { placeName } from "../format.ts";
import { workOf } from "./machine-actions.tsx";

/** What is wrong with machines, and what to do about it; nothing where all is well. */
export function MachineFindings() {
  const found = useQuery({
    queryKey: ["machine findings"],
    queryFn: () => result(calls.GET("/v1/machine-findings")),
    refetchInterval: 30_000,
  });
  if (!found.data?.items.length) return null;
  return (
    <section className="sheet space-y-3" aria-label="What is wrong">
      <h2>What is wrong</h2>
      <ul className="divide-y divide-base-300">
        {found.data.items.map((f) => (
          <li key={f.kind + f.machines.join() + f.what} className="space-y-1 py-3">
            <p className="font-semibold break-all">{f.machines.join(", ")}</p>
            <p className="break-words">{f.what}</p>
            {f.candidates && (
              <ul className="list-disc pl-6 text-sm">
                {f.candidates.map((place) => (
                  <li key={placeName(place)}>
                    <Link
                      className="link break-all"
                      to={`/disk?${new URLSearchParams({ pool: place.pool ?? "", path: place.path })}`}
                    >
                      {placeName(place)}
                    </Link>
                  </li>
                ))}
              </ul>
            )}
            <p className="text-sm opacity-75">{f.do}</p>
            {f.mends && (
              <div className="flex flex-wrap gap-2 pt-1">
                {f.mends.map((request) => (
                  <Link key={JSON.stringify(request)} className="btn btn-xs" to={workOf(request)}>
                    {mendName(request)}
                  </Link>
                ))}
              </div>
            )}
          </li>
        ))}
      </ul>
    </section>
  );
}

/** What a request would do about it. */
function mendName(request: AnyRequest): string {
  switch (request.kind) {
    case "attach-disk":
      return `Have ${request.machine} use ${request.source ? placeName(request.source) : "it"}`;
    case "detach-disk":
      return `Take ${request.slot} from ${request.machine}`;
    default:
      return `Have its host forget ${request.snapshot}`;
  }
}
