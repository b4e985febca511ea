import { useQuery, useQueryClient } from "@tanstack/react-query";
import type { Session } from "../api/client";
import { allowed, type Type } from "../api/records";
import { ofBefore } from "./as-of";

/** useSession is who is signed in. */
export const useSession = () => useQueryClient().getQueryData<Session>(["session"]);

/** useReads tells whether who is signed in reads records. */
export const useReads = () => (useSession()?.sees.length ?? 0) > 0;

/** useSees tells of which types of record there are some to see. */
export function useSees() {
  const sees = useSession()?.sees ?? [];
  return (type: string) => sees.includes(type);
}

/** useMakes tells of which types of record one may add some. */
export function useMakes() {
  const makes = useSession()?.makes ?? [];
  return (type: string) => !ofBefore && makes.includes(type); // what was cannot be changed
}

/** useOwner tells whether one is an owner. */
export const useOwner = () => useSession()?.mandates.includes("owner") ?? false;

/** useWhole tells whether one sees the policy as a whole. */
export const useWhole = () => useSession()?.whole ?? false;

/** What one may do with a record: change all of it, or some (of a group, its members), or take it away. */
export type May = { edit: boolean; patch: boolean; remove: boolean };

/** useMay tells what one may do with a record, as the service says it; nothing until it is known. */
export function useMay(type: Type, id: string): May {
  const { data } = useQuery({ queryKey: ["allowed", type, id], queryFn: () => allowed(type, id), staleTime: 30_000 });
  const may = (method: string) => data?.includes(method) ?? false;
  return { edit: may("PUT") || (type === "settings" && may("PATCH")), patch: may("PATCH"), remove: may("DELETE") };
}
