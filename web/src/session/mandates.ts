import { useQueryClient } from "@tanstack/react-query";
import type { Session } from "../api/client";

/** useReads tells whether who is signed in reads records: whoever has a mandate of more than asking. */
export function useReads() {
  const session = useQueryClient().getQueryData<Session>(["session"]);
  return session?.mandates.some((m) => m !== "enforcement") ?? false;
}
