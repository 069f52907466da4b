import { ArrowRight } from "lucide-react";
import type { Plan } from "../api/client.ts";
import { placeName, size } from "../format.ts";

type Carried = NonNullable<Plan["machine"]>;
type Model = Carried["before"];

/** A machine as it is and as it would be: what differs, and in a line what stays. */
export function MachineSides({ machine }: { machine: Carried }) {
  return (
    <section aria-label="Machine" className="space-y-3">
      <h3 className="flex flex-wrap items-center gap-2 text-lg font-semibold break-all">
        {machine.from ? placeName(machine.from) : `${machine.host}:${machine.before.name}`}
        {!stays(machine) && <ArrowRight aria-label="becomes" className="size-5 opacity-60" />}
        {!stays(machine) && (machine.into ? placeName(machine.into) : `${machine.to}:${machine.after.name}`)}
      </h3>
      <p className="text-sm opacity-75">{sentence(machine.before)}</p>
      {machine.differences.length > 0 && (
        <Differences title="What becomes different" differences={machine.differences} />
      )}
      {machine.differences.length === 0 && !stays(machine) && <p>Nothing of it becomes different.</p>}
    </section>
  );
}

/** Whether it is the same machine on the same host. */
function stays(machine: Carried) {
  return machine.host === machine.to && machine.before.name === machine.after.name && !machine.into && !machine.from;
}

function sentence(is: Model) {
  const cards = is.networks?.length ?? 0;
  return [
    is.container ? "container" : is.firmware,
    size(is.memory),
    is.processors.count === 1 ? "1 processor" : `${is.processors.count} processors`,
    is.disks.length === 1 ? "1 disk" : `${is.disks.length} disks`,
    cards === 1 ? "1 network card" : `${cards} network cards`,
  ].join(", ");
}

/** What differs between two machines, side by side. */
export function Differences({ title, differences }: { title: string; differences: Carried["differences"] }) {
  return (
    <div className="overflow-x-auto">
      <table className="table-sm table" aria-label={title}>
        <thead>
          <tr>
            <th>{title}</th>
            <th>Before</th>
            <th>After</th>
          </tr>
        </thead>
        <tbody>
          {differences.map((d) => (
            <tr key={d.what}>
              <td>{d.what}</td>
              <td className="break-all">{d.before || "nothing"}</td>
              <td className="font-medium break-all">{d.after || "nothing"}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </div>
  );
}
