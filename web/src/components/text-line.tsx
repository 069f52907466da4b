type Props = { name: string; value: string; hint?: string; change: (value: string) => void };

/** A line of text that is followed as it is written. */
export function TextLine({ name, value, hint, change }: Props) {
  return (
    <label className="block">
      <span className="text-sm">{name}</span>
      <input
        className="input w-full"
        value={value}
        placeholder={hint}
        autoComplete="off"
        onChange={(event) => change(event.target.value)}
      />
    </label>
  );
}
