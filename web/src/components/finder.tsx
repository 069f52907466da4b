import { useQuery } from "@tanstack/react-query";
import { Search } from "lucide-react";
import { useEffect, useRef, useState } from "react";
import { useNavigate } from "react-router";
import { calls, result, type Schemas } from "../api/client.ts";

type Hit = Schemas["Named"];

/** Where a hit leads to. */
function pageOf(hit: Hit): string {
  switch (hit.kind) {
    case "pool":
      return `/pool?${new URLSearchParams({ name: hit.name })}`;
    case "host":
      return "/hosts";
    case "machine":
      return `/machines/${encodeURIComponent(hit.host ?? "")}/${encodeURIComponent(hit.name)}`;
    case "disk":
      return `/disk?${new URLSearchParams({ pool: hit.place?.pool ?? "", path: hit.place?.path ?? "" })}`;
    case "job":
      return `/jobs/${hit.name}`;
    case "routine":
      return "/routines";
  }
}

/** Finds anything by its name, from anywhere: the key / opens it. */
export function Finder() {
  const dialog = useRef<HTMLDialogElement>(null);
  const [text, setText] = useState("");
  const [at, setAt] = useState(0);
  const navigate = useNavigate();
  useEffect(() => {
    const open = (event: KeyboardEvent) => {
      const writes = (event.target as HTMLElement).closest("input, textarea, select, dialog");
      if (event.key !== "/" || writes || event.ctrlKey || event.metaKey || event.altKey) return;
      event.preventDefault();
      dialog.current?.showModal();
    };
    document.addEventListener("keydown", open);
    return () => document.removeEventListener("keydown", open);
  }, []);
  const asked = text.trim();
  const found = useQuery({
    queryKey: ["found", asked],
    queryFn: ({ signal }) => result(calls.GET("/v1/found", { params: { query: { text: asked } }, signal })),
    enabled: asked !== "",
    placeholderData: (before) => before,
  });
  const hits = asked ? (found.data?.items ?? []) : [];
  const chosen = Math.min(at, hits.length - 1);
  const go = (hit: Hit) => {
    dialog.current?.close();
    setText("");
    void navigate(pageOf(hit));
  };
  return (
    <>
      <button
        type="button"
        className="btn btn-ghost btn-sm btn-square"
        title="Find ( / )"
        aria-label="Find"
        onClick={() => dialog.current?.showModal()}
      >
        <Search aria-hidden className="size-4" />
      </button>
      <dialog
        ref={dialog}
        className="modal items-start pt-24"
        aria-label="Find"
        onClose={() => (document.activeElement as HTMLElement).blur()} // its field would have what is typed next
      >
        <div className="modal-box space-y-3">
          <input
            className="input w-full"
            role="combobox"
            aria-label="Disk, machine, job, pool, host or routine"
            aria-expanded={hits.length > 0}
            aria-controls="found"
            aria-activedescendant={hits[chosen] ? `found-${chosen}` : undefined}
            placeholder="Disk, machine, job, pool, host or routine"
            value={text}
            onChange={(event) => {
              setText(event.target.value);
              setAt(0);
            }}
            onKeyDown={(event) => {
              const step = { ArrowDown: 1, ArrowUp: -1 }[event.key];
              if (step && hits.length) {
                event.preventDefault();
                setAt((chosen + step + hits.length) % hits.length);
              }
              const hit = hits[chosen];
              if (event.key === "Enter" && hit) go(hit);
            }}
          />
          <ul id="found" role="listbox" aria-label="What was found" className="max-h-96 overflow-y-auto">
            {hits.map((hit, i) => (
              <li
                key={`${hit.kind} ${hit.host ?? ""} ${hit.name}`}
                id={`found-${i}`}
                role="option"
                aria-selected={i === chosen}
                className={`cursor-pointer rounded-field px-3 py-2 ${i === chosen ? "bg-base-200" : ""}`}
                onMouseEnter={() => setAt(i)}
                onClick={() => go(hit)}
              >
                <span className="inline-block w-20 text-sm opacity-75">{hit.kind}</span>
                <span className="font-medium break-all">{hit.name}</span>
                {hit.note && <span className="block pl-20 text-sm opacity-75">{hit.note}</span>}
              </li>
            ))}
          </ul>
          {asked && found.data && hits.length === 0 && <p>Nothing has that in its name.</p>}
          {asked && found.data?.more && <p className="text-sm">There is more of some kinds: write more of the name.</p>}
          {asked && found.data?.away && (
            <p className="text-sm">These hosts could not be asked for their machines: {found.data.away}.</p>
          )}
        </div>
        <form method="dialog" className="modal-backdrop">
          <button type="submit">Close</button>
        </form>
      </dialog>
    </>
  );
}
