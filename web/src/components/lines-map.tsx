import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { calls, items, type Schemas } from "../api/client.ts";
import { speed } from "../format.ts";

type Line = Schemas["Line"];

const width = 720;
const height = 300;

/** Where the computers stand: the service in the middle, porters on an ellipse around it. */
function spots(names: string[]) {
  return new Map(
    names.map((name, i) => {
      const angle = (2 * Math.PI * i) / names.length - Math.PI / 2;
      return [
        name,
        { x: width / 2 + (width / 2 - 90) * Math.cos(angle), y: height / 2 + (height / 2 - 36) * Math.sin(angle) },
      ] as const;
    }),
  );
}

/** The way between two computers, bent away from the service: what goes straight does not go through it. */
function way(from: { x: number; y: number }, to: { x: number; y: number }) {
  const middle = { x: (from.x + to.x) / 2, y: (from.y + to.y) / 2 };
  let out = { x: (middle.x - width / 2) * 0.8, y: (middle.y - height / 2) * 0.8 };
  if (Math.hypot(out.x, out.y) < 40) out = { x: (from.y - to.y) * 0.9, y: (to.x - from.x) * 0.3 }; // they face each other
  return `M${from.x},${from.y} Q${middle.x + out.x},${middle.y + out.y} ${to.x},${to.y}`;
}

const flowOf = (line: Line) => line.jobs.reduce((sum, job) => sum + job.speed, 0);

/** The computers near storage, the lines between them, and what flows where now. */
export function LinesMap({ porters }: { porters: Schemas["Porter"][] }) {
  const lines = useQuery({
    queryKey: ["lines"],
    queryFn: () => items(calls.GET("/v1/lines")),
    refetchInterval: 2000,
  });
  const all = lines.data ?? [];
  if (porters.length === 0) return null;
  const at = spots(porters.map((p) => p.name));
  const middle = { x: width / 2, y: height / 2 };
  return (
    <figure className="space-y-2">
      <svg viewBox={`0 0 ${width} ${height}`} className="w-full max-w-3xl" role="img" aria-label="Computers and lines">
        {porters.map((p) => {
          const spot = at.get(p.name) ?? middle;
          return (
            <line
              key={p.name}
              x1={middle.x}
              y1={middle.y}
              x2={spot.x}
              y2={spot.y}
              className="stroke-base-content/30"
              strokeDasharray={p.state === "away" || p.state === "invited" ? "2 6" : undefined}
            />
          );
        })}
        {all.map((line) => {
          const from = at.get(line.from);
          const to = at.get(line.to);
          const via = line.via && at.get(line.via);
          if (!from || !to) return null;
          const flow = flowOf(line);
          return (
            <path
              key={`${line.from} ${line.to}`}
              d={via ? `${way(from, via)} ${way(via, to)}` : way(from, to)}
              fill="none"
              className={flow > 0 ? "stroke-primary" : "stroke-base-content/40"}
              strokeWidth={flow > 0 ? 4 : 1.5}
            />
          );
        })}
        <Computer name="service" {...middle} />
        {porters.map((p) => (
          <Computer key={p.name} name={p.name} {...(at.get(p.name) ?? middle)} away={p.state === "away"} />
        ))}
      </svg>
      {all.length > 0 && (
        <figcaption>
          <table className="table table-sm">
            <thead>
              <tr>
                <th>From</th>
                <th>To</th>
                <th>Measured</th>
                <th>Now</th>
                <th>Jobs</th>
              </tr>
            </thead>
            <tbody>
              {all.map((line) => (
                <tr key={`${line.from} ${line.to}`}>
                  <td>{line.from}</td>
                  <td>
                    {line.to}
                    {line.via && ` (through ${line.via})`}
                  </td>
                  <td>{line.speed ? speed(line.speed) : "never"}</td>
                  <td>{speed(flowOf(line))}</td>
                  <td className="space-x-2">
                    {line.jobs.map((job) => (
                      <Link key={job.job} className="link" to={`/jobs/${job.job}`}>
                        {job.job}
                      </Link>
                    ))}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </figcaption>
      )}
    </figure>
  );
}

function Computer({ name, x, y, away }: { name: string; x: number; y: number; away?: boolean }) {
  return (
    <g>
      <rect
        x={x - 70}
        y={y - 18}
        width={140}
        height={36}
        rx={6}
        className="fill-base-200 stroke-base-content/50"
        strokeDasharray={away ? "4 4" : undefined}
      />
      <text x={x} y={y + 5} textAnchor="middle" className="fill-base-content text-sm">
        {name.length > 18 ? `${name.slice(0, 17)}…` : name}
      </text>
    </g>
  );
}
