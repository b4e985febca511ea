/** The lists of the place of times. */
export const timeTabs = [
  { to: "/times", type: "schedules" },
  { to: "/times/calendars", type: "calendars" },
] as const;
