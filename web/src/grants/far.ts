import { useQuery } from "@tanstack/react-query";
import type { Saved } from "../api/edits";
import { list, type Grant } from "../api/records";
import { number, t } from "../words";

/** What share of all people is unusual to give something to at once. */
const usualShare = 0.1;

/** useFar gives what says of a grant in which ways it reaches unusually far: such a one is looked at once more before it is saved. */
export function useFar() {
  const people = useQuery({ queryKey: ["total", "users"], queryFn: () => list("users", { limit: 1 }), staleTime: 60_000 }).data?.total;
  return (grant: Grant, saved: Saved | undefined): string[] => {
    if (grant.enabled === false) return [];
    const impact = saved?.impact;
    const touched = impact && impact.gained.all + impact.lost.all > 0 ? impact.users : 0;
    return [
      grant.to?.everyone && t(grant.effect === "deny" ? "console.far.everyone_deny" : "console.far.everyone"),
      grant.lines?.some((l) => l.on?.everything) && t(grant.effect === "deny" ? "console.far.everything_deny" : "console.far.everything"),
      grant.effect === "deny" && impact && impact.lost.all > 0 && t("console.far.takes"),
      people !== undefined && touched > people * usualShare && t("console.far.many", { users: number(touched), people: number(people) }),
    ].filter((x): x is string => Boolean(x));
  };
}
