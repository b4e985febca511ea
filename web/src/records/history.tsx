import { useQuery } from "@tanstack/react-query";
import { historyOf } from "../api/today";
import type { Listed } from "../api/records";
import { useWhole } from "../session/mandates";
import { LastChanges } from "../today/changes";
import { Busy } from "../ui/notice";
import { useZone } from "../ui/time-field";
import { t } from "../words";

/** History lists the last changes of a record. */
export function History({ type, id }: { type: Listed; id: string }) {
  const zone = useZone({});
  const whole = useWhole();
  const found = useQuery({ queryKey: ["history", type, id], queryFn: () => historyOf(type, id) });
  if (!found.data) return <Busy />;
  return (
    <LastChanges
      title={t("console.today.changes")}
      list={found.data}
      zone={zone}
      all={whole ? `/history?${new URLSearchParams({ type, id }).toString()}` : undefined}
    />
  );
}
