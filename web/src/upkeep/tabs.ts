/** The lists of the place where the policy is kept in order. */
export const upkeepTabs = [
  { to: "/upkeep", type: "findings" },
  { to: "/upkeep/drafts", type: "drafts" },
  { to: "/upkeep/reviews", type: "reviews" },
  { to: "/upkeep/expectations", type: "expectations" },
] as const;
