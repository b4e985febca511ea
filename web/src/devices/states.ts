import type { Device } from "../api/records";

/** states are those that a device can be in. */
export const states = ["in-service", "maintenance", "retired"] as const satisfies Device["state"][];
