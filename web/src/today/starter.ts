import type { Edit } from "../api/edits";
import type { Listed, Row } from "../api/records";
import { serviceNow } from "../session/clock";
import { t } from "../words";

const put = <T extends Listed>(type: T, record: Row<T>): Edit => ({ op: "put", type, id: record.id, record });

/**
 * starter is something to cut down: working hours and the days on which they do not hold, three roles, and two grants to a group that nobody
 * is in yet. It gives nobody anything until somebody comes into the group.
 */
export function starter(): Edit[] {
  const name = (key: string) => t(`console.starter.${key}`);
  const year = serviceNow().getFullYear() + 1;
  return [
    put("calendars", { id: "closures", name: name("closures"), days: [{ date: `${year}-01-01`, name: name("new_year") }] }),
    put("schedules", {
      id: "working-hours",
      name: name("hours"),
      zone: "site",
      windows: [{ days: ["mon", "tue", "wed", "thu", "fri"], from: "08:00", to: "17:00" }],
      closed: ["closures"],
    }),
    put("roles", { id: "look-on", name: name("look"), rights: ["view"] }),
    put("roles", { id: "operate", name: name("operate"), rights: ["control"] }),
    put("roles", { id: "stand-in", name: name("stand_in"), rights: ["control"], note: name("stand_in_note") }),
    put("user_groups", { id: "team", name: name("team"), note: name("team_note"), enabled: true }),
    put("grants", {
      id: "team-looks-on",
      name: name("looks_on"),
      effect: "allow",
      enabled: true,
      to: { groups: ["team"] },
      lines: [{ roles: ["look-on"], on: { everything: true } }],
    }),
    put("grants", {
      id: "team-operates",
      name: name("operates"),
      effect: "allow",
      enabled: true,
      to: { groups: ["team"] },
      lines: [{ roles: ["operate"], on: { everything: true }, when: ["working-hours"] }],
    }),
  ];
}
