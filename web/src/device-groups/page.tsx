import type { DeviceGroup } from "../api/records";
import { Inside } from "../records/inside";
import { Rest } from "../records/rest";
import { Uses } from "../reach/uses";

/** DeviceGroupPage begins with who does what by it, then what is in it. */
export function DeviceGroupPage({ row }: { row: DeviceGroup }) {
  return (
    <>
      <Uses type="device_groups" id={row.id} />
      <Inside filter="group" id={row.id} />
      <Rest type="device_groups" row={row} elsewhere={["devices"]} />
    </>
  );
}
