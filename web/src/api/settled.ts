import { useEffect, useState } from "react";

/** A value once it has not changed for so many milliseconds, so that not every key that is pressed asks for something. */
export function useSettled<T>(value: T, ms: number): T {
  const [settled, setSettled] = useState(value);
  useEffect(() => {
    const timer = setTimeout(() => setSettled(value), ms);
    return () => clearTimeout(timer);
  }, [value, ms]);
  return settled;
}
