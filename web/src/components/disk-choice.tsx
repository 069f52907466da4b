import { useQuery } from "@tanstack/react-query";
import { useEffect, useId, useState } from "react";
import { calls, result } from "../api/client.ts";
import { useSettled } from "../api/settled.ts";

/** How many disks are offered, and how many of those that were chosen of late are remembered for a pool. */
const offered = 50;
const remembered = 5;

type Props = { name: string; pool: string; value: string; change: (path: string) => void };

/** A disk of a pool, typed into: what has the text in its name is offered, those that were chosen of late first. */
export function DiskChoice({ name, pool, value, change }: Props) {
  const [typed, setTyped] = useState<{ text: string; over: string }>(); // what is typed, and the disk that was chosen before
  const typing = typed?.over === value ? typed : undefined;
  const list = useId();
  const search = useSettled(typing?.text ?? "", 150);
  const disks = useQuery({
    queryKey: ["disks", pool, "of", search],
    queryFn: ({ signal }) =>
      result(
        calls.GET("/v1/pools/{pool}/disks", {
          params: { path: { pool }, query: { limit: offered, ...(search && { search }) } },
          signal,
        }),
      ),
    enabled: Boolean(pool),
    placeholderData: (before) => before,
  });
  const there = disks.data?.items.map((disk) => disk.path) ?? [];
  const recent = recentOf(pool).filter((path) => path.includes(typing?.text ?? ""));
  const take = (path: string) => {
    if (path === value) return;
    remember(pool, path);
    change(path);
  };
  const found = typing && there.includes(typing.text);
  useEffect(() => {
    if (found) take(typing.text);
  });
  return (
    <label className="block">
      <span className="text-sm">{name}</span>
      <input
        className="input w-full"
        list={list}
        autoComplete="off"
        placeholder={pool ? "a part of its name" : ""}
        disabled={!pool}
        value={typing?.text ?? value}
        onChange={(event) => setTyped({ text: event.target.value, over: value })}
        onBlur={() => {
          setTyped(undefined);
          if (typing?.text) take(typing.text);
        }}
      />
      <datalist id={list}>
        {[...new Set([...recent, ...there])].map((path) => (
          <option key={path} value={path} />
        ))}
      </datalist>
    </label>
  );
}

const key = (pool: string) => `recent disks of ${pool}`;

function recentOf(pool: string): string[] {
  try {
    return JSON.parse(localStorage.getItem(key(pool)) ?? "[]") as string[];
  } catch {
    return []; // it was written by something else
  }
}

function remember(pool: string, path: string) {
  const all = [path, ...recentOf(pool).filter((other) => other !== path)];
  localStorage.setItem(key(pool), JSON.stringify(all.slice(0, remembered)));
}
