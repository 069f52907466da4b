import type { Schemas } from "../api/client.ts";
import { exact, size } from "../format.ts";

export type Device = Schemas["Device"];
type Part = Schemas["DevicePart"];

type Fit = Schemas["Fit"];
type Props = {
  device: Device;
  left?: number[];
  /** Where partitions go, when the new disk has another size. */
  fit?: Fit;
};

/** A disk from its first to its last byte: its partitions to scale, what of them is used, and which do not travel; below it the new disk, in the same scale. */
export function PartitionStrip({ device, left = [], fit }: Props) {
  const whole = Math.max(device.size, fit?.size ?? 0);
  return (
    <figure className="space-y-2">
      <svg
        viewBox="0 0 1000 40"
        preserveAspectRatio="none"
        className="h-12 w-full rounded-field bg-base-200"
        role="img"
        aria-label={`The disk from its first to its last byte: ${device.partitions.map((p) => said(p, left)).join("; ")}`}
      >
        {device.partitions.map((p) => {
          const x = (1000 * p.offset) / whole;
          const width = Math.max(2, (1000 * p.length) / whole);
          const used = p.used >= 0 ? p.used / p.length : 1;
          const out = left.includes(p.number);
          return (
            <g key={p.number}>
              <rect x={x} y={4} width={width} height={32} className={out ? "fill-base-300" : "fill-secondary/30"} />
              {!out && <rect x={x} y={4} width={Math.max(1, width * used)} height={32} className="fill-secondary" />}
              <rect x={x} y={4} width={width} height={32} className="fill-none stroke-base-100" strokeWidth={1.5} />
            </g>
          );
        })}
      </svg>
      <div aria-hidden className="figures relative h-4 text-xs opacity-75">
        {device.partitions
          .filter((p) => p.number > 0 && p.length > whole / 40)
          .map((p) => (
            <span
              key={p.number}
              className="absolute -translate-x-1/2"
              style={{ left: `${(100 * (p.offset + p.length / 2)) / whole}%` }}
            >
              {p.number}
            </span>
          ))}
      </div>
      {fit && <Fitted fit={fit} whole={whole} />}
      <figcaption className="flex flex-wrap gap-x-5 gap-y-1 text-xs">
        <Mark className="bg-secondary">used</Mark>
        <Mark className="bg-secondary/30">free: not read where that is certain</Mark>
        {fit?.parts.some((p) => p.resized) && <Mark className="bg-primary">made to fit</Mark>}
        {left.length > 0 && <Mark className="bg-base-300">left out</Mark>}
        <span className="grow" />
        <span className="opacity-75" title={exact(device.size)}>
          {size(device.size)}
        </span>
      </figcaption>
    </figure>
  );
}

/** The new disk, to the scale of the larger one of both. */
function Fitted({ fit, whole }: { fit: Fit; whole: number }) {
  const at = (bytes: number) => (1000 * bytes) / whole;
  const words = fit.parts.map((p) => `${p.number || p.filesystem}: ${size(p.length)}${p.left ? ", left out" : ""}`);
  return (
    <div className="space-y-1">
      <svg
        viewBox="0 0 1000 40"
        preserveAspectRatio="none"
        className="h-12 w-full"
        role="img"
        aria-label={`The new disk, ${size(fit.size)}: ${words.join("; ")}`}
      >
        <rect x={0} y={0} width={at(fit.size)} height={40} className="fill-base-200" rx={4} />
        {fit.parts.map((p) => (
          <rect
            key={p.number}
            x={at(p.offset)}
            y={4}
            width={Math.max(2, at(p.length))}
            height={32}
            className={`stroke-base-100 ${p.left ? "fill-base-300" : p.resized ? "fill-primary" : "fill-secondary/60"}`}
            strokeWidth={1.5}
          />
        ))}
      </svg>
      <p className="text-xs">The new disk: {size(fit.size)}</p>
    </div>
  );
}

function Mark({ className, children }: { className: string; children: string }) {
  return (
    <span className="flex items-center gap-1.5">
      <span aria-hidden className={`size-3 rounded-xs ${className}`} />
      {children}
    </span>
  );
}

/** What people call a partition. */
export function calledPart(p: Part): string {
  return [p.number || "the whole disk", p.name || p.label, p.type, p.filesystem]
    .filter((word, at, all) => word && all.indexOf(word) === at)
    .join(" · ");
}

function said(p: Part, left: number[]): string {
  const used = p.used >= 0 ? `, ${size(p.used)} used` : "";
  return `${calledPart(p)}, ${size(p.length)}${used}${left.includes(p.number) ? ", left out" : ""}`;
}
