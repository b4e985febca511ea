/** serviceTabs are the pages of the service itself. */
export const serviceTabs = [
  { to: "/service", type: "service" },
  { to: "/service/machines", type: "machines" },
] as const;
