import { useQueryClient } from "@tanstack/react-query";
import type { Session } from "../api/client";

/** useReads tells whether who is signed in reads records, as the service has it: owners and auditors. */
export function useReads() {
  const session = useQueryClient().getQueryData<Session>(["session"]);
  return session?.mandates.some((m) => m === "owner" || m === "auditor") ?? false;
}
