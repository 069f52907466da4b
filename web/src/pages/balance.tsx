import { useMutation, useQuery } from "@tanstack/react-query";
import { Play } from "lucide-react";
import { useState } from "react";
import { useNavigate, useSearchParams } from "react-router";
import { calls, items, result, type Balance, type GroupPart, type GroupPlan, type Pool } from "../api/client.ts";
import { planGroup } from "../api/group-plan.ts";
import { Choice } from "../components/choice.tsx";
import { Failure } from "../components/failure.tsx";
import { Fill } from "../components/fill.tsx";
import { size } from "../format.ts";

const kinds = {
  drain: "Drain: empty a pool into others",
  spread: "Spread: make pools about equally full",
} as const;

/** Work over many disks: which pools on the left, what would go where on the right. */
export function BalancePage() {
  const [search] = useSearchParams();
  const [kind, setKind] = useState<keyof typeof kinds>(search.get("drain") ? "drain" : "spread");
  const [from, setFrom] = useState(search.get("drain") ?? "");
  const [left, setLeft] = useState<string[]>([]);
  const pools = useQuery({ queryKey: ["pools"], queryFn: () => items(calls.GET("/v1/pools")) });
  const usable = pools.data?.filter(
    (p) => p.reachable && !p.read_only && p.total !== undefined && p.name !== fromOf(kind, from),
  );
  const chosen = usable?.map((p) => p.name).filter((name) => !left.includes(name)) ?? [];
  const body = kind === "drain" ? ({ kind, pools: [from], to: chosen } as const) : ({ kind, pools: chosen } as const);
  const ready = kind === "drain" ? from !== "" && chosen.length > 0 : chosen.length > 1;
  const name = [kind, ...body.pools].join(" ");
  const [without, setWithout] = useState<GroupPlan>();
  const plan = useQuery({
    queryKey: ["balance", body, without?.id],
    queryFn: ({ signal }) =>
      without
        ? planGroup({ name, requests: open(without).map((part) => part.request) }, signal)
        : planGroup({ name, balance: { ...body, pools: [...body.pools] } }, signal),
    enabled: ready,
    staleTime: 0,
  });
  const balance = without?.balanced ?? plan.data?.balanced;
  const anew = (change: () => void) => {
    setWithout(undefined);
    change();
  };
  return (
    <div className="space-y-6">
      <h1>Drain or spread</h1>
      <div className="grid items-start gap-6 md:grid-cols-[20rem_1fr]">
        <form className="sheet space-y-4" onSubmit={(event) => event.preventDefault()}>
          <Choice
            name="Work"
            value={kind}
            options={Object.keys(kinds)}
            show={(k) => kinds[k as keyof typeof kinds]}
            change={(k) => anew(() => setKind(k as keyof typeof kinds))}
          />
          {kind === "drain" && (
            <Choice
              name="Empty the pool"
              value={from}
              options={pools.data?.map((p) => p.name) ?? []}
              change={(name) => anew(() => setFrom(name))}
            />
          )}
          <Pools
            legend={kind === "drain" ? "Into" : "Among"}
            pools={usable ?? []}
            left={left}
            toggle={(name) =>
              anew(() => setLeft(left.includes(name) ? left.filter((n) => n !== name) : [...left, name]))
            }
          />
        </form>
        <section className="sheet space-y-5" aria-label="Plan" aria-busy={plan.isFetching}>
          <h2>What would happen</h2>
          {!ready && (
            <p className="opacity-75">
              Choose the pools: the plan appears here. Nothing is touched before you start it.
            </p>
          )}
          {plan.error && <Failure error={plan.error} />}
          {plan.data?.problem && <Failure error={new Error(plan.data.problem)} />}
          {ready && plan.data && balance && (
            <BalanceView
              key={plan.dataUpdatedAt}
              plan={plan.data}
              balance={balance}
              onLeaveOut={() => setWithout({ ...plan.data, balanced: balance })}
            />
          )}
        </section>
      </div>
    </div>
  );
}

/** The pool that is emptied, into which nothing goes. */
function fromOf(kind: string, from: string): string {
  return kind === "drain" ? from : "";
}

function Pools(props: { legend: string; pools: Pool[]; left: string[]; toggle: (name: string) => void }) {
  return (
    <fieldset className="space-y-1">
      <legend className="text-sm">{props.legend}</legend>
      {props.pools.map(({ name }) => (
        <label key={name} className="flex items-center gap-2">
          <input
            type="checkbox"
            className="checkbox checkbox-sm"
            checked={!props.left.includes(name)}
            onChange={() => props.toggle(name)}
          />
          {name}
        </label>
      ))}
    </fieldset>
  );
}

/** The check that blocks a part, if one does. */
function stop(part: GroupPart) {
  return part.checks.find((c) => c.severity === "blocks");
}

/** The parts of a plan that nothing blocks. */
function open(plan: GroupPlan): GroupPart[] {
  return plan.parts.filter((part) => !stop(part));
}

/** How full the pools are before and after, what goes, and what stays. */
function BalanceView(props: { plan: GroupPlan; balance: Balance; onLeaveOut: () => void }) {
  const { plan, balance } = props;
  const navigate = useNavigate();
  const start = useMutation({
    mutationFn: () => result(calls.POST("/v1/groups", { body: { plan: plan.id } })),
    onSuccess: () => navigate("/jobs"),
  });
  const count = plan.parts.length;
  const blocked = plan.parts.filter(stop);
  const machines = (away: boolean) =>
    [...new Set(balance.carries.flatMap((c) => (c.machine && !!c.away === away ? c.machine : [])))].join(", ");
  return (
    <>
      <table className="table">
        <thead>
          <tr>
            <th>Pool</th>
            <th>Before</th>
            <th>After</th>
          </tr>
        </thead>
        <tbody>
          {balance.before.map((pool, i) => (
            <tr key={pool.pool}>
              <th scope="row">{pool.pool}</th>
              <td>
                <Fill name={`${pool.pool} before`} total={pool.total} free={pool.free} narrow />
              </td>
              <td>
                <Fill
                  name={`${pool.pool} after`}
                  total={pool.total}
                  free={balance.after[i] ? balance.after[i].free + balance.after[i].held : pool.free}
                  narrow
                />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      {count === 0 && <p>No disk has to go anywhere, or none can.</p>}
      <ul className="divide-y divide-base-300">
        {balance.carries.map((carry) => (
          <li key={`${carry.from}:${carry.path}`} className="flex flex-wrap justify-between gap-x-4 py-1.5">
            <span className="break-all">
              {carry.path}
              {carry.request.family && <span className="opacity-75"> with what stands on it</span>}
              {carry.machine && <span className="opacity-75"> of {carry.machine}</span>}
            </span>
            <span>
              {carry.from} → {carry.to}, <span className="figures">{size(carry.room)}</span>
            </span>
          </li>
        ))}
        {balance.left.map((stays) => (
          <li key={`${stays.pool}:${stays.path}`} className="py-1.5 text-warning">
            {stays.path} stays in {stays.pool}: {stays.why}
          </li>
        ))}
      </ul>
      {machines(false) && <p>The definitions of {machines(false)} follow their disks where they can.</p>}
      {machines(true) && (
        <p className="text-warning">
          Disks of {machines(true)} go to another host: the machines have to go there too, before they are started
          again.
        </p>
      )}
      <p className="text-sm opacity-75">
        Each is copied, proven and then held in its old pool for a while, where it takes its room until then.
      </p>
      <ul className="space-y-1 text-warning">
        {plan.parts.flatMap((part) =>
          part.checks
            .filter((c) => c.severity === "warns")
            .map((c) => (
              <li key={`${part.request.source?.path} ${c.message}`}>
                {part.request.source?.path}: {c.message}
              </li>
            )),
        )}
      </ul>
      {blocked.length > 0 && (
        <div className="space-y-2">
          <ul className="space-y-1 text-error">
            {blocked.map((part) => (
              <li key={`${part.request.source?.pool}:${part.request.source?.path}`}>
                {part.request.source?.path}: {stop(part)?.message}
              </li>
            ))}
          </ul>
          <p>All of it is started, or nothing. Settle that, or leave them out.</p>
          <button type="button" className="btn btn-sm" disabled={blocked.length === count} onClick={props.onLeaveOut}>
            Leave out what is blocked
          </button>
        </div>
      )}
      {start.error && <Failure error={start.error} />}
      <button
        type="button"
        className="btn btn-primary w-full"
        disabled={count === 0 || plan.blocked || start.isPending}
        onClick={() => start.mutate()}
      >
        <Play aria-hidden className="size-4" />
        {count === 1 ? "Move 1 disk" : `Move ${count} disks as one group`}
      </button>
    </>
  );
}
