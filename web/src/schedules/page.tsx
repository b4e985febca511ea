import type { Schedule } from "../api/records";
import { Rest } from "../records/rest";
import { Uses } from "../reach/uses";
import { Subscribe } from "../feeds/subscribe";
import { SchedulePreview } from "./preview";

/** SchedulePage begins with how a schedule runs, then what depends on it. */
export function SchedulePage({ row }: { row: Schedule }) {
  return (
    <>
      <SchedulePreview schedule={row} />
      <div className="flex justify-end">
        <Subscribe kind="schedule" of={row.id} />
      </div>
      <Uses type="schedules" id={row.id} />
      <Rest type="schedules" row={row} />
    </>
  );
}
