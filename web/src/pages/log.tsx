import { useQuery } from "@tanstack/react-query";
import { calls, result } from "../api/client.ts";
import { usePaged } from "../api/paged.ts";
import { Failure } from "../components/failure.tsx";
import { Pages } from "../components/pages.tsx";
import { SearchField } from "../components/search-field.tsx";
import { when } from "../format.ts";

/** Who did what, when, from where, and what came of it; the newest first. */
export function LogPage() {
  const { typed, type, search, cursors, cursor, go } = usePaged();
  const query = { search, cursor, limit: 100 };
  const log = useQuery({
    queryKey: ["log", query],
    queryFn: () => result(calls.GET("/v1/log", { params: { query } })),
    placeholderData: (before) => before,
    refetchInterval: cursors.length === 0 && 5000,
  });
  return (
    <div className="space-y-6">
      <h1>Log</h1>
      <SearchField label="Only lines with" value={typed} change={type} />
      {log.error && <Failure error={log.error} />}
      {log.data?.items.length === 0 && <p>{search ? "No line has that in it." : "Nothing was done yet."}</p>}
      <ol className="sheet divide-y divide-base-300 py-3 text-sm" aria-label="Lines of the log">
        {log.data?.items.map((e) => (
          <li key={e.number} className="grid gap-x-4 py-1.5 sm:grid-cols-[12rem_12rem_1fr]">
            <span className="opacity-75">{when(e.at)}</span>
            <span className="break-all">
              {e.who}
              {e.origin && ` from ${e.origin}`}
            </span>
            <span className="break-all">
              {e.subject && `${e.subject}: `}
              {e.what}
              {e.result && e.result !== "done" && `, ${e.result}`}
            </span>
          </li>
        ))}
      </ol>
      {(cursors.length > 0 || log.data?.next) && (
        <div className="flex gap-3">
          <Pages cursors={cursors} next={log.data?.next} go={go} />
        </div>
      )}
    </div>
  );
}
