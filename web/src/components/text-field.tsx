type Props = {
  name: string;
  label: string;
  secret?: boolean;
  /** What is in it at first. */
  begin?: string;
  hint?: string;
};

/** A line of text in a form. */
export function TextField({ name, label, secret, begin, hint }: Props) {
  return (
    <label className="block">
      <span className="text-sm">{label}</span>
      <input
        className="input w-full"
        name={name}
        type={secret ? "password" : "text"}
        autoComplete="off"
        defaultValue={begin}
        placeholder={hint}
      />
    </label>
  );
}
