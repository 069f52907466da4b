import { useQuery } from "@tanstack/react-query";
import { CircleCheck, OctagonX } from "lucide-react";
import { Link } from "react-router";
import { calls, result } from "../api/client.ts";
import { usePaged } from "../api/paged.ts";
import { checkReceipts } from "../api/receipts.ts";
import { Failure } from "../components/failure.tsx";
import { JobRow } from "../components/job-row.tsx";
import { Pages } from "../components/pages.tsx";
import { SearchField } from "../components/search-field.tsx";

/** The receipts of all jobs that have ended, and whether each is as it was signed. */
export function ReceiptsPage() {
  const { typed, type, search, cursors, cursor, go } = usePaged();
  const query = { search, cursor, limit: 50, ended_since: "2000-01-01T00:00:00Z" };
  const jobs = useQuery({
    queryKey: ["jobs", "ended", query],
    queryFn: () => result(calls.GET("/v1/jobs", { params: { query } })),
    placeholderData: (before) => before,
    refetchInterval: 10_000,
  });
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1>Receipts</h1>
        <Link className="btn btn-outline" to="/report">
          What was done in a time
        </Link>
      </div>
      <Chain />
      <SearchField label="Number of a job, or a name in what was asked for" value={typed} change={type} />
      {jobs.error && <Failure error={jobs.error} />}
      {jobs.data?.items.length === 0 && (
        <p>{search ? "No receipt has that in it." : "There is none yet: each job ends with one."}</p>
      )}
      <ul className="space-y-3">
        {jobs.data?.items.map((job) => (
          <JobRow key={job.id} job={job} />
        ))}
      </ul>
      {(cursors.length > 0 || jobs.data?.next) && (
        <div className="flex gap-3">
          <Pages cursors={cursors} next={jobs.data?.next} go={go} />
        </div>
      )}
    </div>
  );
}

function Chain() {
  const check = useQuery({ queryKey: ["receipts"], queryFn: checkReceipts });
  return (
    <section className="sheet space-y-3" aria-label="The chain">
      <h2>The chain</h2>
      {check.error && <Failure error={check.error} />}
      {check.isPending && <p>Checking all receipts.</p>}
      {check.data &&
        (check.data.broken ? (
          <p className="flex items-center gap-2 text-error">
            <OctagonX aria-hidden className="size-5 shrink-0" /> {check.data.broken}
          </p>
        ) : (
          <>
            <p className="flex items-center gap-2 text-success">
              <CircleCheck aria-hidden className="size-5 shrink-0" />
              {check.data.count} receipts, each as it was signed, in an unbroken chain.
            </p>
            <p className="figures break-all opacity-75">Head {check.data.head}</p>
          </>
        ))}
      {check.data?.key && (
        <p className="text-sm">
          <a
            className="link"
            download="receipts.jwk"
            href={`data:application/json,${encodeURIComponent(check.data.key)}`}
          >
            Public key
          </a>{" "}
          that checks them, for <code>bagaglio receipt check --key receipts.jwk</code>. Keep it in another place.
        </p>
      )}
    </section>
  );
}
