import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { Link } from "react-router";
import { calls, items, result, type Job } from "../api/client.ts";
import { usePaged } from "../api/paged.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { GroupSheet } from "../components/group-sheet.tsx";
import { JobRow } from "../components/job-row.tsx";
import { Pages } from "../components/pages.tsx";
import { SearchField } from "../components/search-field.tsx";

/** How many groups are shown. */
const shown = 3;

const states: (Job["state"] | "")[] = ["", "running", "waiting", "paused", "asking", "done", "failed", "cancelled"];

/** The last groups, and all jobs, the newest first. */
export function JobsPage() {
  const { typed, type, search, cursors, cursor, go, begin } = usePaged();
  const [state, setState] = useState<Job["state"] | "">("");
  const newest = !search && !state && !cursor;
  const query = { search, state: state || undefined, cursor };
  const jobs = useQuery({
    queryKey: newest ? ["jobs"] : ["jobs", query], // the newest are kept up to date by what is told of jobs
    queryFn: () => result(calls.GET("/v1/jobs", { params: { query } })),
    placeholderData: (before) => before,
    refetchInterval: !newest && 5000,
  });
  const now = jobs.data?.items.map((job) => job.state).join();
  const groups = useQuery({
    queryKey: ["groups", now],
    queryFn: () => items(calls.GET("/v1/groups")),
    select: (all) => all.slice(0, shown),
    placeholderData: (before) => before,
  });
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="grow">Jobs</h1>
        <Link className="btn btn-outline" to="/routines">
          Routines
        </Link>
      </div>
      {newest && groups.data?.map((group) => <GroupSheet key={group.id} group={group} />)}
      <div className="grid items-end gap-4 sm:grid-cols-[1fr_14rem]">
        <SearchField label="Number, or a name in what was asked for" value={typed} change={type} />
        <Choice
          name="Show"
          value={state}
          options={states}
          show={(s) => s || "all jobs"}
          change={(s) => {
            setState(s as Job["state"] | "");
            begin();
          }}
        />
      </div>
      {jobs.error && <Failure error={jobs.error} />}
      {jobs.data?.items.length === 0 && <p>{newest ? "No job has been started yet." : "There is no such job."}</p>}
      <ul className="space-y-3">
        {jobs.data?.items.map((job) => (
          <JobRow key={job.id} job={job} />
        ))}
      </ul>
      {(cursor || jobs.data?.next) && (
        <div className="flex gap-3">
          <Pages cursors={cursors} next={jobs.data?.next} go={go} />
        </div>
      )}
    </div>
  );
}
