import type { Schemas } from "../api/client.ts";
import { size, span, speed } from "../format.ts";

const width = 600;
const height = 90;

/** How long what is left to copy would take, pass by pass, against the stop that was asked for. */
export function PassesChart({ passes, stop }: { passes: Schemas["Pass"][]; stop: number }) {
  const last = passes.at(-1);
  if (!last) return null;
  const most = Math.max(...passes.map((p) => p.seconds), stop, 1) * 1.1;
  const x = (i: number) => (passes.length > 1 ? (i * width) / (passes.length - 1) : width / 2);
  const y = (v: number) => height - (v / most) * height;
  const line = passes.map((p, i) => `${x(i).toFixed(1)},${y(p.seconds).toFixed(1)}`).join(" ");
  return (
    <figure>
      <figcaption className="mb-1 flex flex-wrap justify-between gap-x-4 text-sm">
        <span>
          Left to copy: <span className="figures">{size(last.left)}</span>, which takes{" "}
          <span className="figures">{span(last.seconds)}</span>; it may stand still for{" "}
          <span className="figures">{span(stop)}</span>
        </span>
        <span className="opacity-75">
          its guest writes <span className="figures">{speed(last.rate)}</span>
        </span>
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        className="h-24 w-full border-b border-base-300"
        role="img"
        aria-label={`What is left to copy in ${passes.length} passes, at the end ${span(last.seconds)}, of ${span(stop)} that it may stand still`}
      >
        <line
          x1={0}
          x2={width}
          y1={y(stop)}
          y2={y(stop)}
          className="stroke-warning"
          strokeWidth={2}
          strokeDasharray="6 4"
          vectorEffect="non-scaling-stroke"
        />
        <polyline
          points={line}
          fill="none"
          className="stroke-secondary"
          strokeWidth={2}
          vectorEffect="non-scaling-stroke"
        />
        {passes.map((p, i) => (
          <circle key={p.at} cx={x(i)} cy={y(p.seconds)} r={2.5} className="fill-secondary" />
        ))}
      </svg>
    </figure>
  );
}
