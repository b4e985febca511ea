import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";

/** useEvents refreshes open pages when somebody makes a new revision. */
export function useEvents() {
  const queries = useQueryClient();
  useEffect(() => {
    const source = new EventSource("/api/v1/events");
    // A form that is being filled in keeps what it began with: saving tells of what came in between.
    source.addEventListener("revision", () => void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "edit" }));
    // A page that is left must not hold one of the few connections that a browser has.
    const close = () => source.close();
    window.addEventListener("pagehide", close);
    return () => {
      window.removeEventListener("pagehide", close);
      close();
    };
  }, [queries]);
}
