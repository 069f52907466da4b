import createClient from "openapi-fetch";
import type { components, paths } from "./types.gen.ts";

export type Schemas = components["schemas"];
export type Health = Schemas["Health"];
export type Pool = Schemas["Pool"];
export type DiskEntry = Schemas["DiskEntry"];
export type Report = Schemas["Report"];
export type Format = Schemas["Format"];
export type AnyRequest = Schemas["Request"];
/** One that carries a disk, or proves one. */
export type PlanRequest = AnyRequest & { source: Place };
export type Plan = Schemas["Plan"];
export type KeptPlan = Schemas["KeptPlan"];
export type Side = Schemas["Side"];
export type Check = Schemas["Check"];
export type Remedy = Schemas["Remedy"];
export type Job = Schemas["Job"];
export type Machine = Schemas["Machine"];
export type Question = Schemas["Question"];
export type Held = Schemas["Held"];
export type Limit = Schemas["Limit"];
export type Seal = Schemas["Seal"];
export type Receipt = Schemas["Receipt"];
export type Place = Schemas["Place"];
export type Group = Schemas["Group"];
export type Balance = Schemas["Balance"];
export type GroupPlan = Schemas["GroupPlan"];
export type GroupPart = Schemas["GroupPart"];
export type Host = Schemas["Host"];
export type Trial = Schemas["Trial"];
export type Rules = Schemas["Rules"];
export type DiskList = Schemas["DiskList"];

export const calls = createClient<paths>({ baseUrl: window.location.origin });

/** What the service answered instead of a result (RFC 9457). */
export class Problem extends Error {
  readonly status: number;
  readonly kind: string;
  constructor(status: number, detail: string, type = "") {
    super(detail);
    this.status = status;
    this.kind = type.slice(type.lastIndexOf(":") + 1);
  }
}

type Answer<T> = { data?: T; error?: Schemas["Problem"]; response: Response };

/** Waits for a call and returns its result, or throws a Problem. */
export async function result<T>(call: Promise<Answer<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) {
    throw new Problem(response.status, error?.detail ?? response.statusText);
  }
  return data as T;
}

/** Waits for a call that lists, and returns what is on its first page. */
export async function items<T>(call: Promise<Answer<{ items: T[] }>>): Promise<T[]> {
  return (await result(call)).items;
}
