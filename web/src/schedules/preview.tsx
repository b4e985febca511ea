import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { previewSchedule } from "../api/reach";
import type { Schedule } from "../api/records";
import { Choose } from "../ui/choose";
import { DayRows } from "../ui/strip";
import { t } from "../words";

/** SchedulePreview draws the next fortnight of a schedule, saved or not, by the clock of a zone. */
export function SchedulePreview({ schedule }: { schedule: Schedule }) {
  const [zone, setZone] = useState("");
  const found = useQuery({
    queryKey: ["fortnight", schedule, zone],
    queryFn: () => previewSchedule(schedule, zone),
    retry: false,
    placeholderData: (before) => before,
  });
  const data = found.data;
  return (
    <section className="sheet px-4 py-3" data-fortnight>
      <div className="mb-2 flex flex-wrap items-end gap-3">
        <h2 className="mr-auto self-center">{t("console.times.fortnight")}</h2>
        {data && (
          <div className="w-48">
            <Choose
              label={t("console.times.by_clock")}
              value={data.zone}
              options={[...new Set([data.zone, ...data.zones])].map((z) => ({ value: z, label: z }))}
              onChange={setZone}
            />
          </div>
        )}
      </div>
      {found.error && <p className="whitespace-pre-line text-breaks">{found.error.message}</p>}
      {data && <DayRows days={data.days} stretches={data.stretches} zone={data.zone} />}
      {data?.stretches.length === 0 && <p className="mt-2 text-breaks">{t("console.times.never_open")}</p>}
    </section>
  );
}
