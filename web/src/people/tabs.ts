/** The lists of the place of people. */
export const peopleTabs = [
  { to: "/people", type: "users" },
  { to: "/people/groups", type: "user_groups" },
  { to: "/people/mandates", type: "mandates" },
  { to: "/people/sources", type: "sources" },
] as const;
