import type { Receipt } from "../api/client.ts";
import { Differences } from "./machine-sides.tsx";

/** What became of a machine, with what was seen of it. */
export function CarriedMachine({ machine }: { machine: NonNullable<Receipt["machine"]> }) {
  return (
    <section aria-label="Machine" className="sheet space-y-4">
      <h2 className="break-all">
        {machine.from}
        {machine.from !== machine.to && ` ${machine.move ? "is now" : "was copied to"} ${machine.to}`}
      </h2>
      {machine.defined && (
        <p className={machine.came_up ? "text-success" : "text-warning"}>
          {machine.came_up && "It was seen to come up"}
          {!machine.came_up && (machine.started ? "It was started, and not seen to come up" : "It was not started")}
        </p>
      )}
      {machine.evidence.length > 0 && (
        <ul className="list-disc pl-6">
          {machine.evidence.map((e) => (
            <li key={e}>{e}</li>
          ))}
        </ul>
      )}
      <div className="flex flex-wrap gap-4">
        {machine.screen_before && <Screen title="Before it was shut down" picture={machine.screen_before} />}
        {machine.screen && <Screen title="In its new place" picture={machine.screen} />}
      </div>
      {machine.console && (
        <figure>
          <pre className="overflow-x-auto rounded-box border border-base-300 p-3 text-sm" aria-label="Serial port">
            {machine.console.join("\n")}
          </pre>
          <figcaption className="text-sm opacity-75">The last that it wrote on its serial port</figcaption>
        </figure>
      )}
      {machine.differences.length > 0 && (
        <Differences title="What became different" differences={machine.differences} />
      )}
      {machine.unasked && <Differences title="Not asked for" differences={machine.unasked} />}
      {machine.source && <p>{machine.source}</p>}
    </section>
  );
}

function Screen({ title, picture }: { title: string; picture: string }) {
  return (
    <figure className="max-w-sm">
      <img className="rounded-box border border-base-300" src={`data:image/png;base64,${picture}`} alt={title} />
      <figcaption className="text-sm opacity-75">{title}</figcaption>
    </figure>
  );
}
