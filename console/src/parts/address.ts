import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** useAddress is what stands behind the ? of the address, and changes it; an empty value takes a name out. */
export function useAddress(): [URLSearchParams, (change: Record<string, string>) => void] {
  const [query, setQuery] = useSearchParams();
  const change = useCallback(
    (values: Record<string, string>) =>
      setQuery(
        (before) => {
          for (const [name, value] of Object.entries(values)) {
            if (value) before.set(name, value);
            else before.delete(name);
          }
          return before;
        },
        { replace: true },
      ),
    [setQuery],
  );
  return [query, change];
}
