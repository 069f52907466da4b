type ChoiceProps = {
  name: string;
  value: string;
  options: string[];
  /** How an option is shown, when not as it is. */
  show?: (option: string) => string;
  change: (value: string) => void;
};

/** One of several, by name. */
export function Choice({ name, value, options, show = (option) => option, change }: ChoiceProps) {
  return (
    <label className="block">
      <span className="text-sm">{name}</span>
      <select className="select w-full" value={value} onChange={(event) => change(event.target.value)}>
        {!options.includes(value) && <option value={value}>{show(value)}</option>}
        {options.map((option) => (
          <option key={option} value={option}>
            {show(option)}
          </option>
        ))}
      </select>
    </label>
  );
}
