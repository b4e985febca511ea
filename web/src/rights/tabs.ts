/** The lists of the place of rights. */
export const rightTabs = [
  { to: "/rights", type: "rights" },
  { to: "/rights/roles", type: "roles" },
  { to: "/rights/kinds", type: "kinds" },
] as const;
