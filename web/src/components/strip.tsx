/** What the letters of a strip say, and how each part looks. The shape says it too, for those who do not tell the colours apart. */
const kinds = {
  ".": { name: "still to come", fill: "fill-base-300", y: 0.35, height: 0.3 },
  e: { name: "empty", fill: "fill-base-300", y: 0, height: 1 },
  d: { name: "copied", fill: "fill-secondary", y: 0, height: 1 },
  p: { name: "copied, read back from storage", fill: "fill-success", y: 0, height: 1 },
  x: { name: "could not be read", fill: "fill-error", y: -0.15, height: 1.3 },
};

type Kind = keyof typeof kinds;

/** A disk from its first to its last byte. */
export function Strip({ name, letters }: { name?: string; letters: string }) {
  const runs = runsOf(letters);
  const present = (Object.keys(kinds) as Kind[]).filter((k) => letters.includes(k));
  return (
    <figure className="space-y-2">
      {name && <p className="text-sm break-all">{name}</p>}
      <svg
        viewBox={`0 -0.15 ${letters.length} 1.3`}
        preserveAspectRatio="none"
        className="h-9 w-full"
        role="img"
        aria-label={`${name ?? "The disk"} from its first to its last byte: ${present.map((k) => `${share(letters, k)} % ${kinds[k].name}`).join(", ")}`}
      >
        {runs.map(({ kind, from, length }) => (
          <rect
            key={from}
            x={from}
            width={length}
            y={kinds[kind].y}
            height={kinds[kind].height}
            className={kinds[kind].fill}
          />
        ))}
      </svg>
      <figcaption className="flex flex-wrap justify-between gap-x-5 gap-y-1 text-sm">
        <span className="opacity-75">first byte</span>
        {present.map((k) => (
          <span key={k} className="flex items-center gap-2">
            <svg viewBox="0 -0.15 1 1.3" className="size-3" aria-hidden>
              <rect width={1} y={kinds[k].y} height={kinds[k].height} className={kinds[k].fill} />
            </svg>
            {kinds[k].name} <span className="figures">{share(letters, k)} %</span>
          </span>
        ))}
        <span className="opacity-75">last byte</span>
      </figcaption>
    </figure>
  );
}

function share(letters: string, kind: Kind): number {
  return Math.round((100 * [...letters].filter((l) => l === kind).length) / letters.length);
}

function runsOf(letters: string): { kind: Kind; from: number; length: number }[] {
  const runs: { kind: Kind; from: number; length: number }[] = [];
  [...letters].forEach((letter, at) => {
    const last = runs.at(-1);
    if (last && last.kind === letter) last.length++;
    else runs.push({ kind: letter as Kind, from: at, length: 1 });
  });
  return runs;
}
