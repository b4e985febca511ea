import { useQuery } from "@tanstack/react-query";
import { previewMatch } from "../api/reach";
import type { DeviceGroup } from "../api/records";
import { RecordLink } from "../ui/record-link";
import { t } from "../words";

/** MatchPreview lists the devices that a rule selects, as it is typed. */
export function MatchPreview({ match }: { match: DeviceGroup["match"] }) {
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
