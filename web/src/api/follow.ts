import { useQueryClient, type QueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Job } from "./client.ts";

/**
 * Keeps what is known of jobs up to date while a page is seen. A page that is not seen has no line open: a browser has six of them for all of its pages,
 * those included that it keeps to go back to.
 */
export function useFollow() {
  const cache = useQueryClient();
  useEffect(() => {
    let events: EventSource | undefined;
    let cut = false;
    const look = () => {
      if (document.visibilityState === "hidden") {
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
        events.addEventListener("job", (event) =>
          takeNews(cache, JSON.parse((event as MessageEvent<string>).data) as Job),
        );
      }
    };
    const seenAgain = () => {
      look();
      void cache.invalidateQueries({ queryKey: ["jobs"] }); // likewise
      void cache.invalidateQueries({ queryKey: ["job"] });
    };
    seenAgain();
    document.addEventListener("visibilitychange", seenAgain);
    return () => {
      document.removeEventListener("visibilitychange", seenAgain);
      events?.close();
    };
  }, [cache]);
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
  const jobs = cache.getQueryData<Job[]>(["jobs"]);
  if (jobs) {
    void cache.cancelQueries({ queryKey: ["jobs"] });
    cache.setQueryData(["jobs"], withNews(jobs, news));
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
