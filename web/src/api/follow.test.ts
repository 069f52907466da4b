import { QueryClient, QueryObserver } from "@tanstack/react-query";
import { expect, test, vi } from "vitest";
import type { Job } from "./client.ts";
import { takeNews } from "./follow.ts";

const job = (state: Job["state"]) => ({ id: "7", state, ended: state === "done" }) as Job;

/** A page that shows job 7, and the answers that it waits for, in their order. */
function page() {
  const cache = new QueryClient();
  const answers: ((job: Job) => void)[] = [];
  const observer = new QueryObserver<Job>(cache, {
    queryKey: ["job", "7"],
    queryFn: () => new Promise((resolve) => answers.push(resolve)),
  });
  observer.subscribe(() => {});
  return { cache, answers, shown: () => observer.getCurrentResult().data?.state };
}

test("news that come before the first answer are not lost to it", async () => {
  const { cache, answers, shown } = page();
  takeNews(cache, job("done"));
  answers[0]?.(job("running"));
  await vi.waitFor(() => expect(answers.length).toBe(2));
  answers[1]?.(job("done"));
  await vi.waitFor(() => expect(shown()).toBe("done"));
});

test("news take the place of what is known, and keep the plan", async () => {
  const { cache, answers, shown } = page();
  answers[0]?.({ ...job("running"), plan: { steps: [] } } as unknown as Job);
  await vi.waitFor(() => expect(shown()).toBe("running"));
  takeNews(cache, job("done"));
  expect(shown()).toBe("done");
  expect(cache.getQueryData<Job>(["job", "7"])?.plan).toBeDefined();
});
