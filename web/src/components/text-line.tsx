type Props = {
  name: string;
  value: string;
  hint?: string;
  /** What a browser may fill it with; the text is hidden where that is a password. */
  fills?: "username" | "current-password" | "new-password";
  change: (value: string) => void;
};

/** A line of text that is followed as it is written. */
export function TextLine({ name, value, hint, fills, change }: Props) {
  return (
    <label className="block">
      <span className="text-sm">{name}</span>
      <input
        className="input w-full"
        type={fills?.endsWith("password") ? "password" : "text"}
        value={value}
        placeholder={hint}
        autoComplete={fills ?? "off"}
        onChange={(event) => change(event.target.value)}
      />
    </label>
  );
}
