type Props = { label: string; value: string; change: (text: string) => void };

/** A field that a list is searched by. */
export function SearchField({ label, value, change }: Props) {
  return (
    <label className="block">
      <span className="text-sm">{label}</span>
      <input type="search" className="input w-full" value={value} onChange={({ target }) => change(target.value)} />
    </label>
  );
}
