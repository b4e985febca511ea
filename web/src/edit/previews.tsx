import { useQuery } from "@tanstack/react-query";
import { useState } from "react";
import { previewMatch, previewSchedule } from "../api/reach";
import { Choose } from "../ui/choose";
import { RecordLink } from "../ui/record-link";
import { DayRows } from "../ui/strip";
import { t } from "../words";

/** MatchPreview lists the devices that a rule selects, as it is typed. */
export function MatchPreview({ match }: { match: object | undefined }) {
  const found = useQuery({ queryKey: ["match", match], queryFn: () => previewMatch(match ?? {}), retry: false, placeholderData: (before) => before });
  return (
    <section className="sheet px-4 py-3" aria-live="polite" data-match>
      <h2 className="mb-1">
        {t("console.edit.matches")} <span className="font-normal text-soft tabular-nums">{found.data?.total ?? ""}</span>
      </h2>
      {found.error && <p className="text-breaks">{found.error.message}</p>}
      {found.data?.total === 0 && <p className="text-soft">{t("console.edit.matches_none")}</p>}
      <ul className="grid max-h-60 gap-x-4 overflow-auto sm:grid-cols-2">
        {found.data?.items.map((d) => (
          <li key={d.id} className="truncate leading-[24px]">
            <RecordLink type="devices" id={d.id} name={d.name} />
          </li>
        ))}
      </ul>
    </section>
  );
}

/** SchedulePreview draws the next fortnight of a schedule, saved or not, by the clock of a zone. */
export function SchedulePreview({ schedule }: { schedule: object }) {
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
