import { useCallback } from "react";
import { useSearchParams } from "react-router";

/** A piece of a list's state that lives in the address, so that a link or the back button brings it back. */
export function useUrlState(name: string): [string, (value: string) => void] {
  const [params, setParams] = useSearchParams();
  const set = useCallback(
    (value: string) =>
      setParams(
        (before) => {
          const after = new URLSearchParams(before);
          if (value) after.set(name, value);
          else after.delete(name);
          return after;
        },
        { replace: true },
      ),
    [name, setParams],
  );
  return [params.get(name) ?? "", set];
}
