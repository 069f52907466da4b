import { useState } from "react";
import { useSettled } from "./settled.ts";

/** A list that is searched, and gone through page by page: what is asked for, and what its field and its buttons do. */
export function usePaged() {
  const [typed, setTyped] = useState("");
  const [cursors, go] = useState<string[]>([]);
  const search = useSettled(typed.trim(), 200);
  const begin = () => go([]);
  const type = (text: string) => {
    setTyped(text);
    begin();
  };
  return { typed, type, search: search || undefined, cursors, cursor: cursors.at(-1), go, begin };
}
