import { calls, result, type GroupPlan, type Schemas } from "./client.ts";

/** Plans several requests as one group, and waits until all of them are planned. */
export async function planGroup(body: Schemas["NewGroupPlan"], signal: AbortSignal): Promise<GroupPlan> {
  let plan = await result(calls.POST("/v1/group-plans", { body, signal }));
  while (!plan.ready) {
    await new Promise((resolve) => setTimeout(resolve, 500));
    plan = await result(calls.GET("/v1/group-plans/{plan}", { params: { path: { plan: plan.id } }, signal }));
  }
  return plan;
}
