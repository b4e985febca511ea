import { useQuery } from "@tanstack/react-query";
import { Check, Clock } from "lucide-react";
import { machines, type Machine } from "../api/machines";
import { useWhole } from "../session/mandates";
import { number, t } from "../words";

/** How often it is looked at anew while not all have it, and when all have, in milliseconds. */
const soon = 1_000;
const later = 30_000;

/** Reached says how far a revision has come: how many machines have it, and which have not. There is nothing to say of one machine alone. */
export function Reached({ revision }: { revision: number }) {
  const whole = useWhole();
  const found = useQuery({
    queryKey: ["machines"],
    queryFn: machines,
    enabled: whole,
    refetchInterval: (q) => (q.state.data && !q.state.data.alone && behind(q.state.data.list, revision).length > 0 ? soon : later),
  });
  if (!found.data || found.data.alone) return null;
  const list = found.data.list;
  const without = behind(list, revision);
  if (without.length === 0) {
    return (
      <span className="inline-flex items-center gap-1 text-holds">
        <Check size={14} aria-hidden /> {t("console.machine.all_have_it", { count: list.length, n: number(list.length) })}
      </span>
    );
  }
  return (
    <span className="inline-flex items-start gap-1 text-breaks">
      <Clock size={14} className="mt-0.5 shrink-0" aria-hidden />
      {t("console.machine.some_have_it", {
        n: number(list.length - without.length),
        all: number(list.length),
        names: without
          .slice(0, named)
          .map((m) => m.name)
          .join(", "),
        more: without.length > named ? "…" : "",
      })}
    </span>
  );
}

/** How many machines are named that have it not. */
const named = 3;

const behind = (list: Machine[], revision: number) => list.filter((m) => (m.revision ?? 0) < revision);
