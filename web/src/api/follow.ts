import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect, useRef } from "react";
import { useNavigate } from "react-router";
import { beTheOne, ring, useBell } from "./bell.ts";
import type { Job, Schemas } from "./client.ts";

/**
 * Keeps what is known of jobs up to date while a page is seen. A page that is not seen has no line open: a browser has six of them for all of its pages,
 * those included that it keeps to go back to. Where the browser is to tell what happens meanwhile, one of its pages keeps its line.
 */
export function useFollow() {
  const cache = useQueryClient();
  const bell = useBell();
  const navigate = useNavigate();
  const open = useRef(navigate);
  useEffect(() => {
    open.current = navigate;
  });
  useEffect(() => {
    let events: EventSource | undefined;
    let cut = false;
    let theOne = false;
    const states = new Map<string, Job["state"]>(); // as they were told last
    const look = () => {
      if (document.visibilityState === "hidden" && !theOne) {
        events?.close();
        events = undefined;
      } else if (!events) {
        events = new EventSource("/v1/events");
        events.addEventListener("error", () => {
          cut = true;
          if (events?.readyState === EventSource.CLOSED) void cache.invalidateQueries({ queryKey: ["version"] }); // it is refused
        });
        events.addEventListener("open", () => {
          if (cut) void cache.invalidateQueries(); // what was missed
          cut = false;
        });
        events.addEventListener("job", (event) => {
          const job = JSON.parse((event as MessageEvent<string>).data) as Job;
          takeNews(cache, job);
          const before = states.get(job.id);
          states.set(job.id, job.state);
          const matters = before && before !== job.state && (job.ended || job.state === "asking");
          if (theOne && matters && document.visibilityState === "hidden") ring(job, (path) => open.current(path));
        });
      }
    };
    const seenAgain = () => {
      look();
      void cache.invalidateQueries({ queryKey: ["jobs"] }); // likewise
      void cache.invalidateQueries({ queryKey: ["job"] });
    };
    seenAgain();
    const silent = bell
      ? beTheOne(() => {
          theOne = true;
          look();
        })
      : () => {};
    document.addEventListener("visibilitychange", seenAgain);
    return () => {
      document.removeEventListener("visibilitychange", seenAgain);
      silent();
      events?.close();
    };
  }, [cache, bell]);
}

/** Puts the news of a job in the place of what is known of it. */
export function takeNews(cache: QueryClient, news: Job) {
  // An answer that is still on its way is older than news, and must not be taken: invalidating alone would wait for a first one.
  const askAnew = async (queryKey: string[]) => {
    await cache.cancelQueries({ queryKey });
    await cache.invalidateQueries({ queryKey });
  };
  const known = cache.getQueryData<Job>(["job", news.id]);
  if (known) {
    void cache.cancelQueries({ queryKey: ["job", news.id] });
    cache.setQueryData(["job", news.id], { ...known, ...news }); // news have no plan
  } else {
    void askAnew(["job", news.id]);
  }
  const jobs = cache.getQueryData<Schemas["JobList"]>(["jobs"]);
  if (jobs) {
    void cache.cancelQueries({ queryKey: ["jobs"], exact: true });
    cache.setQueryData(["jobs"], { ...jobs, items: withNews(jobs.items, news) });
  } else {
    void askAnew(["jobs"]);
  }
  if (news.ended) {
    void cache.invalidateQueries({ queryKey: ["disks"] });
    void cache.invalidateQueries({ queryKey: ["pools"] });
  }
}

function withNews(jobs: Job[], news: Job): Job[] {
  return jobs.some((j) => j.id === news.id) ? jobs.map((j) => (j.id === news.id ? news : j)) : [news, ...jobs];
}
