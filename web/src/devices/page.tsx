import type { Device } from "../api/records";
import { Facts } from "../records/facts";
import { Mentioned } from "../records/mentioned";
import { ReachSection } from "../reach/table";

export function DevicePage({ row }: { row: Device }) {
  return (
    <>
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <Facts type="devices" row={row} />
        <Mentioned type="devices" id={row.id} />
      </div>
      <ReachSection type="devices" id={row.id} />
    </>
  );
}
