type Props = { name: string; on?: boolean; onChange: (on: true | null) => void };

/** A choice between yes and no, which is left out of a request where it is no. */
export function Switch({ name, on, onChange }: Props) {
  return (
    <label className="flex items-center gap-3">
      <input
        type="checkbox"
        className="toggle"
        checked={Boolean(on)}
        onChange={(event) => onChange(event.target.checked || null)}
      />
      {name}
    </label>
  );
}
