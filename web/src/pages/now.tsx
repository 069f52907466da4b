import { useMutation, useQuery, useQueryClient } from "@tanstack/react-query";
import {
  CircleAlert,
  CircleHelp,
  CirclePause,
  HardDriveDownload,
  OctagonX,
  PlugZap,
  ShieldQuestion,
  UsersRound,
  Unplug,
  X,
} from "lucide-react";
import { useEffect, useState } from "react";
import { Link } from "react-router";
import { calls, items, result, type Job, type Schemas } from "../api/client.ts";
import { Asked } from "../components/asked.tsx";
import { Failure } from "../components/failure.tsx";
import { State } from "../components/state.tsx";
import { exact, size, span, speed, subjectName, when, workName } from "../format.ts";

type Need = Schemas["Need"];

const looks = {
  question: { icon: CircleHelp, word: "asks", colour: "text-warning" },
  consent: { icon: UsersRound, word: "has to agree", colour: "text-warning" },
  stopped: { icon: CirclePause, word: "does not go on by itself", colour: "text-warning" },
  blocked: { icon: OctagonX, word: "was not begun as it was to be", colour: "text-warning" },
  failed: { icon: CircleAlert, word: "failed", colour: "text-error" },
  doubt: { icon: ShieldQuestion, word: "is in doubt", colour: "text-warning" },
  away: { icon: Unplug, word: "is not to be reached", colour: "text-error" },
  full: { icon: HardDriveDownload, word: "is nearly full", colour: "text-warning" },
  drive: { icon: PlugZap, word: "is used by no job any more", colour: "text-success" },
};

/** What needs somebody now, what runs and when it will be done, and what happened since one last looked. */
export function NowPage() {
  const jobs = useQuery({ queryKey: ["jobs"], queryFn: () => result(calls.GET("/v1/jobs")) });
  const states = jobs.data?.items.map((job) => job.state).join();
  const needs = useQuery({
    queryKey: ["needs", states],
    queryFn: () => items(calls.GET("/v1/needs")),
    placeholderData: (before) => before,
    refetchInterval: 30_000,
  });
  const [seen, see] = useSeen();
  const since = useLastLook();
  // What runs may be older than all that is on the first page of the list.
  const now = useQuery({
    queryKey: ["now", states, since],
    queryFn: () => listNow(since),
    placeholderData: (before) => before,
    refetchInterval: 10_000,
  });
  const news = new Map(jobs.data?.items.map((job) => [job.id, job]));
  const latest = (job: Job) => {
    const told = news.get(job.id);
    return told?.state === job.state ? told : job;
  };
  const open = needs.data?.filter((need) => !seen.includes(keyOf(need)));
  const running = now.data?.open.map(latest) ?? [];
  const ended = now.data?.ended ?? [];
  return (
    <div className="space-y-8">
      <h1>Now</h1>
      {(needs.error ?? now.error) && <Failure error={(needs.error ?? now.error) as Error} />}
      <section aria-label="What needs you" className="space-y-3">
        <h2>What needs you</h2>
        {open?.length === 0 && <p className="opacity-75">Nothing. Everything goes on by itself.</p>}
        {open?.map((need) => (
          <NeedSheet key={keyOf(need)} need={need} dismiss={() => see(keyOf(need))} />
        ))}
      </section>
      <section aria-label="What runs" className="space-y-3">
        <h2>What runs</h2>
        {running.length === 0 && now.data && (
          <p className="opacity-75">
            Nothing runs.{" "}
            <Link className="link" to="/compose">
              Compose
            </Link>{" "}
            what is to be done, or choose a disk in{" "}
            <Link className="link" to="/places">
              Places
            </Link>
            .
          </p>
        )}
        <ul className="space-y-3">
          {running.map((job) => (
            <Running key={job.id} job={job} />
          ))}
        </ul>
      </section>
      <section aria-label="Since you last looked" className="space-y-3">
        <h2>Since you last looked</h2>
        {ended.length === 0 && now.data && <p className="opacity-75">Nothing has ended since {when(since)}.</p>}
        <ul className="space-y-2">
          {ended.map((job) => (
            <Ended key={job.id} job={job} />
          ))}
        </ul>
      </section>
    </div>
  );
}

/** The jobs that run or wait, and those that have ended since a time. */
async function listNow(since: string) {
  const of = (query: { state?: "running" | "waiting"; ended_since?: string }) =>
    items(calls.GET("/v1/jobs", { params: { query } }));
  const [running, waiting, ended] = await Promise.all([
    of({ state: "running" }),
    of({ state: "waiting" }),
    of({ ended_since: since }),
  ]);
  return { open: [...running, ...waiting], ended };
}

function keyOf(need: Need): string {
  return `${need.kind} ${need.job?.id ?? need.consent ?? need.pool ?? need.routine} ${need.since ?? ""}`;
}

/** Lets a job go on that does not do so by itself. */
function GoOn({ job }: { job: Job }) {
  const go = useMutation({
    mutationFn: () => result(calls.POST("/v1/jobs/{job}/resume", { params: { path: { job: job.id } } })),
  });
  return (
    <>
      <button type="button" className="btn btn-sm" disabled={go.isPending} onClick={() => go.mutate()}>
        Let it go on
      </button>
      {go.error && <Failure error={go.error} />}
    </>
  );
}

/** Agrees to what somebody else asked for, or does not. */
function Agree({ consent }: { consent: string }) {
  const client = useQueryClient();
  const params = { path: { consent } };
  const done = { onSuccess: () => client.invalidateQueries() };
  const give = useMutation({ mutationFn: () => result(calls.POST("/v1/consents/{consent}", { params })), ...done });
  const refuse = useMutation({ mutationFn: () => result(calls.DELETE("/v1/consents/{consent}", { params })), ...done });
  const error = give.error ?? refuse.error;
  return (
    <div className="flex flex-wrap gap-2">
      <button type="button" className="btn btn-sm btn-warning" disabled={give.isPending} onClick={() => give.mutate()}>
        I agree: let it be gone
      </button>
      <button type="button" className="btn btn-sm" disabled={refuse.isPending} onClick={() => refuse.mutate()}>
        Leave it
      </button>
      {error && <Failure error={error} />}
    </div>
  );
}

function NeedSheet({ need, dismiss }: { need: Need; dismiss: () => void }) {
  const { icon: Icon, word, colour } = looks[need.kind];
  const { job, pool, routine } = need;
  const about = job ? (
    <Link className="link font-bold" to={`/jobs/${job.id}`}>
      Job {job.id}, {workName(job.request)} {subjectName(job.request)}
    </Link>
  ) : need.consent ? (
    <span className="font-bold">A second person</span>
  ) : routine ? (
    <Link className="link font-bold" to="/routines">
      {routine}
    </Link>
  ) : (
    <Link className="link font-bold" to={`/pool?${new URLSearchParams({ name: pool ?? "" })}`}>
      {pool}
    </Link>
  );
  if (job?.question) {
    return (
      <div className="space-y-2">
        <p className="flex flex-wrap items-center gap-x-2 break-all">
          {about} {word}
        </p>
        <Asked job={job} question={job.question} />
      </div>
    );
  }
  return (
    <div className="sheet flex items-start gap-3 py-4">
      <Icon aria-hidden className={`mt-0.5 size-5 shrink-0 ${colour}`} />
      <div className="min-w-0 grow">
        <p className="break-all">
          {about} {word}
        </p>
        <p className="break-words">{need.text}</p>
        {need.since && <p className="text-sm opacity-75">{when(need.since)}</p>}
      </div>
      {need.consent && <Agree consent={need.consent} />}
      {need.kind === "stopped" && job?.actions.includes("resume") && <GoOn job={job} />}
      {["blocked", "failed", "doubt", "drive"].includes(need.kind) && (
        <button
          type="button"
          className="btn btn-ghost btn-sm btn-square"
          aria-label={`I have seen that ${job ? `job ${job.id}` : (routine ?? pool)} ${word}`}
          onClick={dismiss}
        >
          <X aria-hidden className="size-4" />
        </button>
      )}
    </div>
  );
}

function Running({ job }: { job: Job }) {
  const p = job.progress;
  return (
    <li>
      <Link to={`/jobs/${job.id}`} className="sheet block space-y-2 py-4 hover:border-primary">
        <span className="flex flex-wrap items-baseline gap-x-4 gap-y-1">
          <span className="min-w-0 grow font-bold break-all">
            Job {job.id}, {workName(job.request)} {subjectName(job.request)}
          </span>
          {p?.seconds_left !== undefined && <span className="figures">{span(p.seconds_left)} left</span>}
          <State job={job} />
        </span>
        {p && p.total > 0 && (
          <progress
            className="progress progress-primary block w-full"
            aria-label={p.title}
            max={p.total}
            value={p.done}
          />
        )}
        <span className="block text-sm opacity-75">
          {p && job.state === "running" ? (
            <>
              Step {p.number} of {p.steps}: {p.title}
              {p.total > 0 && `, ${speed(p.speed)}`}
            </>
          ) : (
            job.reason
          )}
        </span>
      </Link>
    </li>
  );
}

function Ended({ job }: { job: Job }) {
  const seconds = job.started && job.finished && (Date.parse(job.finished) - Date.parse(job.started)) / 1000;
  return (
    <li>
      <Link
        to={`/jobs/${job.id}`}
        className="sheet grid items-center gap-x-6 gap-y-1 py-3 hover:border-primary sm:grid-cols-[8rem_1fr_auto]"
      >
        <span>
          <State job={job} />
        </span>
        <span className="min-w-0 break-all">
          Job {job.id}, {workName(job.request)} {subjectName(job.request)}
        </span>
        <span className="text-sm opacity-75">
          {job.size > 0 && <span title={exact(job.size)}>{size(job.size)} in </span>}
          {typeof seconds === "number" && span(seconds)}
        </span>
      </Link>
    </li>
  );
}

/** What was put aside here, which stays so in this browser. */
function useSeen(): [string[], (key: string) => void] {
  const [seen, setSeen] = useState<string[]>(() => JSON.parse(localStorage.getItem("seen") ?? "[]") as string[]);
  const see = (key: string) => {
    const all = [...seen, key].slice(-mostSeen);
    localStorage.setItem("seen", JSON.stringify(all));
    setSeen(all);
  };
  return [seen, see];
}

const mostSeen = 500;

/** When this page was left last in this browser, or a day ago. */
function useLastLook(): string {
  const [since] = useState(() => localStorage.getItem("looked") ?? new Date(Date.now() - 86_400_000).toISOString());
  useEffect(() => {
    const leave = () => localStorage.setItem("looked", new Date().toISOString());
    window.addEventListener("pagehide", leave);
    return () => {
      window.removeEventListener("pagehide", leave);
      leave();
    };
  }, []);
  return since;
}
