import { useEffect, useState } from "react";
import { useSearchParams } from "react-router";

/**
 * A request that is kept in the address, so that reloading keeps it, and it can be sent; the first one is made of the address where that has none. Of what else the address says, that
 * with a name stays.
 */
export function useRequest<T>(begin: (search: URLSearchParams) => T, stays?: string) {
  const [search, setSearch] = useSearchParams();
  const [request, setRequest] = useState<T>(() => read<T>(search.get("request")) ?? begin(search));
  const written = JSON.stringify(request);
  useEffect(() => {
    if (search.get("request") === written) return;
    setSearch({ ...(stays && { [stays]: search.get(stays) ?? "" }), request: written }, { replace: true });
  }, [search, setSearch, written, stays]);
  return [request, setRequest] as const;
}

function read<T>(text: string | null): T | undefined {
  try {
    return JSON.parse(text ?? "") as T;
  } catch {
    return undefined;
  }
}
