/** The lists of the place of devices. */
export const deviceTabs = [
  { to: "/devices", type: "devices" },
  { to: "/devices/groups", type: "device_groups" },
  { to: "/devices/sites", type: "sites" },
] as const;
