import type { DeviceGroup } from "../api/records";
import { Facts } from "../records/facts";
import { Inside } from "../records/inside";
import { Mentioned } from "../records/mentioned";
import { Uses } from "../reach/uses";

export function DeviceGroupPage({ row }: { row: DeviceGroup }) {
  return (
    <>
      <Inside filter="group" id={row.id} />
      <Uses type="device_groups" id={row.id} />
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <Facts type="device_groups" row={row} elsewhere={["devices"]} />
        <Mentioned type="device_groups" id={row.id} />
      </div>
    </>
  );
}
