import { span, speed } from "../format.ts";

const width = 600;
const height = 90;

/** The speed over the time that a job has run, in bytes a second, each value an average over some seconds. */
export function SpeedChart({ speeds, seconds }: { speeds: number[]; seconds: number }) {
  if (speeds.length < 2) return null;
  const most = Math.max(...speeds, 1);
  const x = (i: number) => (i * width) / (speeds.length - 1);
  const y = (v: number) => height - (v / most) * (height - 4);
  const line = speeds.map((v, i) => `${x(i).toFixed(1)},${y(v).toFixed(1)}`).join(" ");
  return (
    <figure>
      <figcaption className="mb-1 flex justify-between text-sm">
        <span className="opacity-75">Speed, at most {speed(most)}</span>
        <span className="opacity-75">over {span(speeds.length * seconds)}</span>
      </figcaption>
      <svg
        viewBox={`0 0 ${width} ${height}`}
        preserveAspectRatio="none"
        className="h-24 w-full border-b border-base-300"
        role="img"
        aria-label={`The speed over time, at most ${speed(most)}, at the end ${speed(speeds.at(-1) ?? 0)}`}
      >
        <polygon points={`0,${height} ${line} ${width},${height}`} className="fill-secondary opacity-25" />
        <polyline
          points={line}
          fill="none"
          className="stroke-secondary"
          strokeWidth={2}
          vectorEffect="non-scaling-stroke"
        />
      </svg>
    </figure>
  );
}
