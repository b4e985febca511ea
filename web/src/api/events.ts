import { useQueryClient } from "@tanstack/react-query";
import { useEffect } from "react";
import { base } from "../base";

/** useEvents refreshes open pages when somebody makes a new revision, for whoever follows what changes. */
export function useEvents(follows: boolean) {
  const queries = useQueryClient();
  useEffect(() => {
    if (!follows) return;
    const refresh = () => void queries.invalidateQueries({ predicate: (q) => q.queryKey[0] !== "edit" });
    const source = new EventSource(`${base}api/v1/events`);
    // What came while the stream was lost is asked for again: the first time it opens, the pages have just been read.
    let opened = false;
    source.addEventListener("open", () => {
      if (opened) refresh();
      opened = true;
    });
    // A form that is being filled in keeps what it began with: saving tells of what came in between.
    source.addEventListener("revision", refresh);
    // A page that is left must not hold one of the few connections that a browser has.
    const close = () => source.close();
    window.addEventListener("pagehide", close);
    return () => {
      window.removeEventListener("pagehide", close);
      close();
    };
  }, [queries, follows]);
}
