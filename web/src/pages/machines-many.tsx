import { useMutation, useQuery } from "@tanstack/react-query";
import { Play, Printer } from "lucide-react";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { calls, items, result, type AnyRequest, type GroupPart, type GroupPlan } from "../api/client.ts";
import { planGroup } from "../api/group-plan.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { Switch } from "../components/switch.tsx";
import { TextLine } from "../components/text-line.tsx";
import { size, span, subjectName } from "../format.ts";

const works = {
  "move-machine": "Move them: then they are there, and no more here",
  "copy-machine": "Copy them: with new identities",
} as const;

/** Many machines at once: what is asked for, and a survey of what can go, what stands in the way, and what is lost. */
export function MachinesManyPage() {
  const [search] = useSearchParams();
  const names = search.getAll("machine");
  const [each, setEach] = useState<Partial<AnyRequest>>({ kind: "move-machine", stop: true });
  const [manners, setManners] = useState({ at_once: "", stop_after: "", hours: "" });
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const hosts = useQuery({ queryKey: ["hosts"], queryFn: () => items(calls.GET("/v1/hosts")) });
  const runs = new Set(hosts.data?.filter((h) => h.runs).map((h) => h.name));
  const places = pools.data?.filter((p) => runs.has(p.host)) ?? [];
  const [left, setLeft] = useState<GroupPlan>(); // of which what is blocked is left out
  const change = (patch: Partial<AnyRequest>) => {
    setLeft(undefined);
    setEach((now) => ({ ...now, ...patch }));
  };
  const requests = names.map((machine) => ({ ...each, machine }) as AnyRequest);
  const plan = useQuery({
    queryKey: ["many", requests, manners, left?.id],
    queryFn: ({ signal }) =>
      planGroup(
        {
          name: `${each.kind === "copy-machine" ? "copy" : "move"} ${names.length} machines`,
          requests: left ? open(left).map((part) => part.request) : requests,
          at_once: Number(manners.at_once) || undefined,
          stop_after: Number(manners.stop_after) || undefined,
          hours: manners.hours || undefined,
        },
        signal,
      ),
    enabled: names.length > 0 && Boolean(each.destination),
    staleTime: 0,
    retry: false,
  });
  return (
    <div className="space-y-6">
      <h1>{names.length} machines</h1>
      <div className="grid items-start gap-6 md:grid-cols-[20rem_1fr]">
        <form className="sheet space-y-4 print:hidden" onSubmit={(event) => event.preventDefault()}>
          <Choice
            name="What to do"
            value={each.kind ?? ""}
            options={Object.keys(works)}
            show={(kind) => works[kind as keyof typeof works]}
            change={(kind) => change({ kind: kind as AnyRequest["kind"] })}
          />
          <Choice
            name="Pool of their disks"
            value={each.destination?.pool ?? ""}
            options={["", ...places.map((p) => p.name)]}
            show={(pool) => (pool ? `${pool} of ${places.find((p) => p.name === pool)?.host}` : "Choose one")}
            change={(pool) => {
              change({
                destination: pool ? { pool, path: "" } : undefined,
                to: places.find((p) => p.name === pool)?.host,
              });
            }}
          />
          <Switch
            name="Shut them down first, when they run"
            on={each.stop}
            onChange={(stop) => change({ stop: stop ?? undefined })}
          />
          <Switch
            name="Start them there, and see them come up"
            on={each.start}
            onChange={(start) => change({ start: start ?? undefined })}
          />
          <TextLine
            name="How many at once"
            hint="As many as limits allow"
            value={manners.at_once}
            change={(at_once) => setManners({ ...manners, at_once })}
          />
          <TextLine
            name="Have the others wait after so many failed"
            hint="Never"
            value={manners.stop_after}
            change={(stop_after) => setManners({ ...manners, stop_after })}
          />
          <TextLine
            name="Hours"
            hint="Any, or as 22:00-06:00"
            value={manners.hours}
            change={(hours) => setManners({ ...manners, hours })}
          />
        </form>
        <section className="sheet space-y-5" aria-label="Survey" aria-busy={plan.isFetching}>
          <h2>What would happen</h2>
          {!each.destination && (
            <p className="opacity-75">
              Choose a pool: the survey appears here. Nothing is touched before you start it.
            </p>
          )}
          {plan.error && <Failure error={plan.error} />}
          {plan.data?.problem && <Failure error={new Error(plan.data.problem)} />}
          {plan.isFetching && <p>Planning.</p>}
          {plan.data && !plan.isFetching && <Survey plan={plan.data} onLeaveOut={() => setLeft(plan.data)} />}
        </section>
      </div>
    </div>
  );
}

/** The check that blocks a part, if one does. */
function stop(part: GroupPart) {
  return part.checks.find((c) => c.severity === "blocks");
}

function open(plan: GroupPlan): GroupPart[] {
  return plan.parts.filter((part) => !stop(part));
}

function Survey({ plan, onLeaveOut }: { plan: GroupPlan; onLeaveOut: () => void }) {
  const navigate = useNavigate();
  const start = useMutation({
    mutationFn: () => result(calls.POST("/v1/groups", { body: { plan: plan.id } })),
    onSuccess: () => navigate("/jobs"),
  });
  const can = open(plan);
  const seconds = can.reduce((sum, part) => sum + part.estimated_seconds, 0);
  return (
    <>
      <p>
        {can.length} of {plan.parts.length} can go, {span(seconds)} one after the other.
      </p>
      <table className="table-sm table" aria-label="Machines">
        <thead>
          <tr>
            <th>Machine</th>
            <th>To write</th>
            <th>What stands in the way, or is lost</th>
          </tr>
        </thead>
        <tbody>
          {plan.parts.map((part) => (
            <tr key={subjectName(part.request)}>
              <th scope="row" className="break-all">
                {subjectName(part.request)}
              </th>
              <td className="figures">{size(part.bytes_to_write)}</td>
              <td>
                {part.checks.length === 0 && <span className="text-success">It can go</span>}
                {part.checks.map((c) => (
                  <p key={c.message} className={c.severity === "blocks" ? "text-error" : "text-warning"}>
                    {c.message}
                  </p>
                ))}
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {plan.rooms.length > 0 && (
        <ul className="text-sm">
          {plan.rooms.map((r) => (
            <li key={r.pool}>
              {r.pool}: {size(r.needs)} go there{r.free >= 0 && `, and ${size(r.free)} are free`}
            </li>
          ))}
        </ul>
      )}
      {start.error && <Failure error={start.error} />}
      <div className="flex flex-wrap gap-2 print:hidden">
        <button
          type="button"
          className="btn btn-primary"
          disabled={plan.blocked || start.isPending}
          onClick={() => start.mutate()}
        >
          <Play aria-hidden className="size-4" />
          Start all
        </button>
        {plan.blocked && can.length > 0 && (
          <button type="button" className="btn" onClick={onLeaveOut}>
            Leave out what is blocked
          </button>
        )}
        <button type="button" className="btn" onClick={() => window.print()}>
          <Printer aria-hidden className="size-4" />
          Print
        </button>
      </div>
    </>
  );
}
