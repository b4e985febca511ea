import type { ComponentType } from "react";
import type { Saved } from "../api/edits";
import type { Row, Type } from "../api/records";
import { CalendarFields } from "../calendars/editor";
import { DeviceActions } from "../devices/actions";
import { DeviceFields } from "../devices/editor";
import { DevicePage } from "../devices/page";
import { MatchPreview } from "../device-groups/match-preview";
import { DeviceGroupPage } from "../device-groups/page";
import { ExpectationFields } from "../expectations/editor";
import { ExpectationPage } from "../expectations/page";
import { GrantFields } from "../grants/editor";
import { useFar } from "../grants/far";
import { GrantPage } from "../grants/page";
import { GroupFields } from "../groups/editor";
import { GroupPage } from "../groups/page";
import { PersonActions } from "../people/actions";
import { PersonFields } from "../people/editor";
import { PersonPage } from "../people/page";
import { ScheduleFields } from "../schedules/editor";
import { RoleFields } from "../roles/editor";
import { SchedulePage } from "../schedules/page";
import { SchedulePreview } from "../schedules/preview";
import { SitePage } from "../sites/page";
import type { Form } from "../ui/form/use-record-form";

/** Thing is what the console has of its own for a type of record. What it has none of is made from the descriptors. */
type Thing<T extends Type> = {
  fresh?: Partial<Row<T>>;
  Fields?: ComponentType<{ form: Form<T> }>;
  Beside?: ComponentType<{ form: Form<T> }>;
  Page?: ComponentType<{ row: Row<T> }>;
  Actions?: ComponentType<{ row: Row<T> }>;
  /** useFar gives what says of a record in which ways it reaches unusually far. */
  useFar?: () => (row: Row<T>, saved: Saved | undefined) => string[];
};

export const things: { [T in Type]: Thing<T> } = {
  users: { fresh: { kind: "person", status: "active" }, Fields: PersonFields, Page: PersonPage, Actions: PersonActions },
  user_groups: { fresh: { enabled: true }, Fields: GroupFields, Page: GroupPage },
  devices: { fresh: { state: "in-service" }, Fields: DeviceFields, Page: DevicePage, Actions: DeviceActions },
  device_groups: { Page: DeviceGroupPage, Beside: ({ form }) => MatchPreview({ match: form.row.match }) },
  sites: { Page: SitePage },
  kinds: {},
  rights: {},
  roles: { Fields: RoleFields },
  schedules: { fresh: { zone: "site" }, Fields: ScheduleFields, Page: SchedulePage, Beside: ({ form }) => SchedulePreview({ schedule: form.row }) },
  calendars: { Fields: CalendarFields },
  grants: { fresh: { effect: "allow", enabled: true, lines: [{ on: {} }] }, Fields: GrantFields, Page: GrantPage, useFar },
  expectations: { fresh: { expect: "never", on: {} }, Fields: ExpectationFields, Page: ExpectationPage },
  mandates: { fresh: { role: "auditor", enabled: true } },
  settings: {},
};
