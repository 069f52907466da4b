import { useSyncExternalStore } from "react";
import type { Job } from "./client.ts";
import { stateName, subjectName, workName } from "../format.ts";

const key = "bell";
const changed = "bell-changed";

/** Whether this browser tells at all: only over TLS, or on the computer of the service itself. */
export const tells = "Notification" in globalThis && "locks" in navigator;

/** Whether this browser is to tell what happens while none of its pages is looked at. */
export function useBell(): boolean {
  return useSyncExternalStore(
    (again) => {
      window.addEventListener("storage", again);
      window.addEventListener(changed, again);
      return () => {
        window.removeEventListener("storage", again);
        window.removeEventListener(changed, again);
      };
    },
    () => tells && localStorage.getItem(key) === "on" && Notification.permission === "granted",
  );
}

/** Has the browser tell or be silent. It asks whether it may; the promise tells whether it was let. */
export async function setBell(on: boolean): Promise<boolean> {
  const may = !on || (await Notification.requestPermission()) === "granted";
  localStorage.setItem(key, on && may ? "on" : "off");
  window.dispatchEvent(new Event(changed));
  return may;
}

/** Has one page of this browser, and no other, be the one that tells, and says when it is this one. It ends by what is returned. */
export function beTheOne(told: () => void): () => void {
  const stop = new AbortController();
  let end = () => {};
  navigator.locks
    .request("the page that tells", { signal: stop.signal }, () => {
      told();
      return new Promise<void>((resolve) => (end = resolve));
    })
    .catch(() => {}); // it is not waited for any more
  return () => {
    stop.abort();
    end();
  };
}

/** Tells that a job has ended or asks, once for each. `open` goes to its page. */
export function ring(job: Job, open: (path: string) => void) {
  const note = new Notification(`Job ${job.id} ${job.state === "asking" ? "asks" : `is ${stateName(job)}`}`, {
    body: job.question?.text ?? `${workName(job.request)} ${subjectName(job.request)}`,
    tag: `job ${job.id} ${job.state}`,
  });
  note.onclick = () => {
    window.focus();
    open(`/jobs/${job.id}`);
    note.close();
  };
}
