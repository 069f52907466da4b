import { exact, size } from "../format.ts";

type Props = {
  name: string;
  total?: number;
  free?: number;
  disks?: number;
  held?: number;
  /** In a narrow place only what is taken and what is free are told apart. */
  narrow?: boolean;
};

/** How full a pool is, and what fills it: disks, what is held, anything else, and what is free. */
export function Fill({ name, total, free, disks = 0, held = 0, narrow }: Props) {
  if (total === undefined || free === undefined)
    return <span className="text-sm opacity-75">how much room it has is not told</span>;
  const other = Math.max(total - free - disks - held, 0);
  const parts = [
    { what: "disks", bytes: disks, look: "bg-primary" },
    { what: "held", bytes: held, look: "bg-accent" },
    { what: narrow ? "taken" : "other", bytes: other, look: "bg-base-300" },
    { what: "free", bytes: free, look: "bg-base-200" },
  ].filter((part) => part.bytes > 0 || part.what === "free");
  return (
    <figure className={narrow ? "min-w-44" : "min-w-72 shrink basis-xl"} aria-label={`How full ${name} is`}>
      <div aria-hidden className="flex h-3 overflow-hidden rounded-full border border-base-300">
        {parts.map(({ what, bytes, look }) => (
          <div key={what} className={`min-w-1 ${look}`} style={{ flexGrow: Math.max((1000 * bytes) / total, 2) }} />
        ))}
      </div>
      <figcaption className="mt-1 flex flex-wrap gap-x-4 text-sm">
        {parts.map(({ what, bytes, look }) => (
          <span key={what} className="flex items-center gap-1.5" title={exact(bytes)}>
            <span aria-hidden className={`inline-block size-2.5 rounded-full border border-base-300 ${look}`} />
            {what} <span className="figures">{size(bytes)}</span>
          </span>
        ))}
      </figcaption>
    </figure>
  );
}
