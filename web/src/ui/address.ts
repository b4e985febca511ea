import { useCallback } from "react";
import { useSearchParams } from "react-router";

type Options = Parameters<ReturnType<typeof useSearchParams>[1]>[1];

/**
 * useAddress gives what the address of the page says, and changes it. A change goes out from the address as it is, which is ahead of what is drawn where
 * somebody does two things quickly.
 */
export function useAddress(): [URLSearchParams, (change: (now: URLSearchParams) => URLSearchParams, options?: Options) => void] {
  const [params, setParams] = useSearchParams();
  const change = useCallback(
    (to: (now: URLSearchParams) => URLSearchParams, options?: Options) => setParams(() => to(new URLSearchParams(window.location.search)), options),
    [setParams],
  );
  return [params, change];
}

/** useFilters gives what a list is narrowed down by, each of which stands in the address, and what sets one. */
export function useFilters() {
  const [params, change] = useAddress();
  const get = (name: string) => params.get(name) ?? undefined;
  const set = (name: string) => (value: string | undefined) =>
    change(
      (next) => {
        if (value) next.set(name, value);
        else next.delete(name);
        return next;
      },
      { replace: true },
    );
  return { get, set };
}
