import { useState } from "react";
import { setBell, tells, useBell } from "../api/bell.ts";

/** Has this browser tell what happens while it shows something else. */
export function Bell() {
  const on = useBell();
  const [refused, setRefused] = useState(false);
  return (
    <section className="sheet space-y-3" aria-label="This browser">
      <h2>This browser</h2>
      {tells ? (
        <label className="flex cursor-pointer items-start gap-3">
          <input
            type="checkbox"
            className="checkbox checkbox-sm mt-0.5"
            checked={on}
            onChange={async ({ target }) => setRefused(!(await setBell(target.checked)))}
          />
          <span>
            Tells when a job has ended or asks, while you look at something else. A page of the console has to stay
            open.
          </span>
        </label>
      ) : (
        <p className="opacity-75">
          It tells nothing while you look at something else: browsers do that for pages that came over TLS, or from the
          same computer.
        </p>
      )}
      {refused && <p>The browser does not let this page tell. Its settings for this page have to.</p>}
    </section>
  );
}
