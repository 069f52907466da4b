import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import type { Job } from "./client.ts";

/** Keeps what is known of jobs up to date while a page is open: of all of them, or of one. */
export function useFollow(job?: string) {
  const cache = useQueryClient();
  useEffect(() => {
    const events = new EventSource("/v1/events" + (job ? `?job=${encodeURIComponent(job)}` : ""));
    events.addEventListener("job", (event) => {
      const news = JSON.parse((event as MessageEvent<string>).data) as Job;
      const known = cache.getQueryData<Job>(["job", news.id]);
      if (known) {
        // An answer that is still on its way is older than this, and must not overwrite it. News have no plan.
        void cache.cancelQueries({ queryKey: ["job", news.id] });
        cache.setQueryData(["job", news.id], { ...known, ...news });
      } else {
        void cache.invalidateQueries({ queryKey: ["job", news.id] });
      }
      const jobs = cache.getQueryData<Job[]>(["jobs"]);
      if (jobs) {
        void cache.cancelQueries({ queryKey: ["jobs"] });
        cache.setQueryData(["jobs"], withNews(jobs, news));
      } else {
        void cache.invalidateQueries({ queryKey: ["jobs"] });
      }
      if (news.ended) {
        void cache.invalidateQueries({ queryKey: ["disks"] });
        void cache.invalidateQueries({ queryKey: ["pools"] });
      }
    });
    return () => events.close();
  }, [cache, job]);
}

function withNews(jobs: Job[], news: Job): Job[] {
  return jobs.some((j) => j.id === news.id) ? jobs.map((j) => (j.id === news.id ? news : j)) : [news, ...jobs];
}
