import type { AnyRequest, Job, Place } from "./api/client.ts";

const units = ["bytes", "KiB", "MiB", "GiB", "TiB", "PiB"];

/** Writes a size in binary units. */
export function size(bytes: number): string {
  let unit = 0;
  let value = bytes;
  while (value >= 1024 && unit < units.length - 1) {
    value /= 1024;
    unit++;
  }
  const digits = unit === 0 || value >= 100 ? 0 : 1;
  return `${value.toLocaleString("en", { maximumFractionDigits: digits })} ${units[unit]}`;
}

/** Reads a length such as 3 GiB, 3G or 512; null for what is none. Units are powers of 1024. */
export function lengthOf(text: string): number | null {
  const found = /^\s*(\d+(?:\.\d+)?)\s*(?:([KMGTP])(?:i?B)?|bytes|B)?\s*$/i.exec(text);
  if (!found) return null;
  const power = " KMGTP".indexOf((found[2] ?? " ").toUpperCase());
  const bytes = Math.round(Number(found[1]) * 1024 ** power);
  return bytes > 0 ? bytes : null;
}

/** Writes the exact count, to have at hand beside the size. */
export function exact(bytes: number): string {
  return `${bytes.toLocaleString("en")} bytes`;
}

export function speed(bytesPerSecond: number): string {
  return `${size(Math.round(bytesPerSecond))}/s`;
}

/** Writes a length of time. */
export function span(seconds?: number): string {
  if (seconds === undefined) return "not known yet";
  if (seconds < 1) return "less than 1 s";
  if (seconds < 90) return `${Math.round(seconds)} s`;
  if (seconds < 5400) return `${Math.round(seconds / 60)} min`;
  return `${(seconds / 3600).toLocaleString("en", { maximumFractionDigits: 1 })} h`;
}

/** Writes a time where the reader is, with its zone. */
export function when(time: string): string {
  return new Date(time).toLocaleString("en-GB", { dateStyle: "medium", timeStyle: "long" });
}

/** Names what a job does, as people ask for it. */
export function workName(request: AnyRequest): string {
  return request.machine ? request.kind.replaceAll("-", " ") : request.release ? "move" : request.kind;
}

/** The state of a job in words, and how it ended where that says more. */
export function stateName(job: Job): string {
  const ended = job.outcome === "damaged" ? "done with damage" : job.outcome;
  const keeps = job.state === "asking" && job.question?.until;
  const kept = !keeps ? job.state : job.question?.trouble ? "not kept up to date" : "kept up to date";
  return job.state === "done" && ended ? ended : kept;
}

/** What a request is about. */
export function subjectName(request: AnyRequest): string {
  return request.machine ?? (request.source ? placeName(request.source) : `job ${request.job}`);
}

export function placeName(place: Place): string {
  if (!place.pool) return place.path;
  return place.pool.endsWith(":/dev") ? `${place.pool}/${place.path}` : `${place.pool}:${place.path}`; // a disk of a computer
}
