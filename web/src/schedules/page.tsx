import type { Schedule } from "../api/records";
import { Facts } from "../records/facts";
import { Mentioned } from "../records/mentioned";
import { Uses } from "../reach/uses";
import { SchedulePreview } from "./preview";

export function SchedulePage({ row }: { row: Schedule }) {
  return (
    <>
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <SchedulePreview schedule={row} />
        <div className="flex min-w-0 flex-col gap-5">
          <Facts type="schedules" row={row} />
          <Mentioned type="schedules" id={row.id} />
        </div>
      </div>
      <Uses type="schedules" id={row.id} />
    </>
  );
}
