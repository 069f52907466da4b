import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { calls, items, type Job } from "../api/client.ts";
import { Failure } from "../components/failure.tsx";
import { GroupSheet } from "../components/group-sheet.tsx";
import { State } from "../components/state.tsx";
import { exact, placeName, size, span, speed, subjectName, when, workName } from "../format.ts";

/** How many groups are shown. */
const shown = 3;

/** How much a job carries, how long that took or how much time is left, and how fast it was read. */
function Facts({ job }: { job: Job }) {
  const seconds = job.started && job.finished ? (Date.parse(job.finished) - Date.parse(job.started)) / 1000 : undefined;
  const left = job.state === "running" ? job.progress?.seconds_left : undefined;
  return (
    <span className="text-sm opacity-75 sm:text-right">
      {job.size > 0 && <span title={exact(job.size)}>{size(job.size)}</span>}
      {seconds !== undefined && <span className="block">{span(seconds)}</span>}
      {left !== undefined && <span className="block">{span(left)} left</span>}
      {job.bytes_read && seconds ? <span className="block">{speed(job.bytes_read / seconds)}</span> : null}
    </span>
  );
}

/** The last groups, and all jobs, the newest first. */
export function JobsPage() {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => items(calls.GET("/v1/jobs")) });
  const states = jobs.data?.map((job) => job.state).join();
  const groups = useQuery({
    queryKey: ["groups", states],
    queryFn: () => items(calls.GET("/v1/groups")),
    select: (all) => all.slice(0, shown),
    placeholderData: (before) => before,
  });
  return (
    <div className="space-y-6">
      <div className="flex flex-wrap items-center justify-between gap-3">
        <h1 className="grow">Jobs</h1>
        <Link className="btn btn-outline" to="/report">
          What was done
        </Link>
        <Link className="btn btn-outline" to="/routines">
          Routines
        </Link>
      </div>
      {groups.data?.map((group) => (
        <GroupSheet key={group.id} group={group} />
      ))}
      {jobs.error && <Failure error={jobs.error} />}
      {jobs.data?.length === 0 && <p>No job has been started yet.</p>}
      <ul className="space-y-3">
        {jobs.data?.map((job) => (
          <li key={job.id}>
            <Link
              to={`/jobs/${job.id}`}
              className="sheet grid items-center gap-x-6 gap-y-1 py-4 hover:border-primary sm:grid-cols-[3rem_8rem_1fr_auto_auto]"
            >
              <span className="figures">{job.id}</span>
              <span>
                <State job={job} />
              </span>
              <span className="min-w-0 break-all">
                {workName(job.request)} {subjectName(job.request)}
                {job.request.destination && (
                  <>
                    <br />
                    <span className="opacity-75">to {placeName(job.request.destination)}</span>
                  </>
                )}
                {job.reason && !job.ended && (
                  <>
                    <br />
                    <span className="text-sm">{job.reason}</span>
                  </>
                )}
              </span>
              <Facts job={job} />
              <span className="text-sm opacity-75 sm:text-right">
                {when(job.created)}
                {job.who && <span className="block">{job.who}</span>}
              </span>
            </Link>
          </li>
        ))}
      </ul>
    </div>
  );
}
