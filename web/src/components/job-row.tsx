import { Link } from "react-router";
import type { Job } from "../api/client.ts";
import { exact, placeName, size, span, speed, subjectName, when, workName } from "../format.ts";
import { State } from "./state.tsx";

/** A job in a list: its state, what it is about, how much it carries, and who asked for it. */
export function JobRow({ job }: { job: Job }) {
  return (
    <li className="[content-visibility:auto] [contain-intrinsic-size:auto_5.5rem]">
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
  );
}

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
