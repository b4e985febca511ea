import { Download } from "lucide-react";
import { Popover } from "radix-ui";
import { exportAddress, type AuditFilter } from "../api/audit";
import { t } from "../words";

/** TakeCopy takes the entries of a filter away as a file. */
export function TakeCopy({ filter }: { filter: AuditFilter }) {
  return (
    <Popover.Root>
      <Popover.Trigger asChild>
        <button type="button" className="button">
          <Download size={15} aria-hidden /> {t("console.record.take")}
        </button>
      </Popover.Trigger>
      <Popover.Portal>
        <Popover.Content align="end" sideOffset={4} className="sheet z-50 flex flex-col gap-1 p-2">
          <a className="button border-transparent" href={exportAddress(filter, "csv")} download="sentier-record.csv">
            {t("console.record.as_csv")}
          </a>
          <a className="button border-transparent" href={exportAddress(filter, "jsonl")} download="sentier-record.jsonl">
            {t("console.record.as_lines")}
          </a>
        </Popover.Content>
      </Popover.Portal>
    </Popover.Root>
  );
}
