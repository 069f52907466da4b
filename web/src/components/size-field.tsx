import { useState } from "react";
import { lengthOf, size } from "../format.ts";

type Props = {
  bytes: number | undefined;
  smallest: boolean | undefined;
  change: (bytes: number | null, smallest: boolean | null) => void;
};

/** The size that a new disk gets: as it is, as small as possible, or one that is typed. */
export function SizeField({ bytes, smallest, change }: Props) {
  const [text, setText] = useState(smallest ? "smallest" : bytes ? size(bytes) : "");
  const parsed = lengthOf(text);
  const wrong = text.trim() !== "" && text.trim() !== "smallest" && parsed === null;
  return (
    <label className="block">
      <span className="text-sm">Size of the new disk</span>
      <input
        className={`input w-full ${wrong ? "input-error" : ""}`}
        value={text}
        placeholder="as it is"
        aria-invalid={wrong}
        onChange={(event) => {
          const typed = event.target.value;
          setText(typed);
          const small = typed.trim() === "smallest";
          const length = lengthOf(typed);
          if (small || length !== null || typed.trim() === "") change(small ? null : length, small || null);
        }}
      />
      <span className="text-sm opacity-75">
        {wrong
          ? "Write a length such as 3 GiB, or smallest."
          : "Such as 3 GiB, or smallest: what is on it is made to fit."}
      </span>
    </label>
  );
}
