import { exact, size } from "../format.ts";

type Props = { virtual: number; allocated: number; file: number };

/** The three sizes of a disk as bars of one scale, so that none is taken for another. */
export function Sizes({ virtual, allocated, file }: Props) {
  const scale = Math.max(virtual, allocated, file, 1);
  return (
    <dl className="grid grid-cols-[4rem_5.5rem_1fr] items-center gap-x-3 gap-y-1">
      <Bar name="virtual" title="what the guest sees" value={virtual} scale={scale} look="border border-primary" />
      <Bar name="allocated" title="how much of it is stored" value={allocated} scale={scale} look="bg-primary" />
      <Bar name="file" title="the length of its files" value={file} scale={scale} look="bg-secondary" />
    </dl>
  );
}

function Bar({
  name,
  title,
  value,
  scale,
  look,
}: {
  name: string;
  title: string;
  value: number;
  scale: number;
  look: string;
}) {
  return (
    <>
      <dt className="text-xs opacity-75" title={title}>
        {name}
      </dt>
      <dd className="figures text-right" title={exact(value)}>
        {size(value)}
      </dd>
      <dd aria-hidden className="min-w-16">
        <div className={`h-2 min-w-0.5 rounded-full ${look}`} style={{ width: `${(100 * value) / scale}%` }} />
      </dd>
    </>
  );
}
