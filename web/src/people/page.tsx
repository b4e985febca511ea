import { useQuery } from "@tanstack/react-query";
import type { Edit } from "../api/edits";
import { groupsOf, type Belongs } from "../api/reach";
import { mentions, type User } from "../api/records";
import { LastEntries } from "../audit/last";
import { Doing } from "../impact/doing";
import { ReachSection } from "../reach/table";
import { Facts } from "../records/facts";
import { History } from "../records/history";
import { serviceNow } from "../session/clock";
import { useMay } from "../session/mandates";
import { Modal } from "../ui/modal";
import { Busy } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { distance, local } from "../ui/time";
import { useZone } from "../ui/time-field";
import { asOf } from "../session/as-of";
import { SignIns } from "./sign-ins";
import { t } from "../words";

/** PersonPage begins with what somebody reaches, then what that is made of, then what happened. */
export function PersonPage({ row }: { row: User }) {
  return (
    <>
      <ReachSection type="users" id={row.id} />
      <div className="grid items-start gap-5 lg:grid-cols-2">
        <Groups user={row} />
        <Direct user={row.id} />
        <Facts title={t("console.person.account")} type="users" row={row} />
        {asOf === "" && <SignIns user={row.id} />}
        <History type="users" id={row.id} />
        <LastEntries filter={{ of: row.id }} />
      </div>
    </>
  );
}

/** Groups are those that somebody is in, with their ends, and a button that ends each. */
function Groups({ user }: { user: User }) {
  const found = useQuery({ queryKey: ["groups", "users", user.id], queryFn: () => groupsOf("users", user.id) });
  if (!found.data) return <Busy />;
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.types.user_groups")}</h2>
      <ul className="px-4 py-2">
        {found.data.map((b) => (
          <Group key={`${b.group.id} ${b.from ?? ""}`} user={user} of={b} />
        ))}
      </ul>
      {found.data.length === 0 && <p className="px-4 pb-3 text-soft">{t("console.person.no_groups")}</p>}
    </section>
  );
}

function Group({ user, of }: { user: User; of: Belongs }) {
  const zone = useZone({});
  const now = serviceNow();
  const title = t("console.person.end", { user: user.name ?? user.id, group: of.group.name });
  const may = useMay("user_groups", of.group.id);
  const drop: Edit = { op: "drop", type: "user_groups", id: of.group.id, list: "members", value: user.id };
  return (
    <li className="flex items-center gap-3 py-0.5">
      <span className="min-w-0 flex-1">
        <RecordLink type="user_groups" id={of.group.id} name={of.group.name} />{" "}
        <span className="text-[0.86rem] text-soft">
          {of.through && t("console.person.included", { group: of.through.name })}
          {of.from && new Date(of.from) > now && t("console.members.from", { time: `${local(of.from, zone)} ${zone}` })}
          {of.until && ` ${t("console.members.until", { time: `${local(of.until, zone)} ${zone}` })}, ${distance(of.until, now)}`}
          {!of.enabled && ` ${t("console.person.disabled")}`}
        </span>
      </span>
      {of.why === "listed" && may.patch && (
        <Modal title={title} label={title} button={t("console.person.end_button")} className="button px-2 py-0.5 text-[0.86rem]">
          {(close) => <Doing edits={[drop]} label={t("console.edit.take_out_now")} close={close} />}
        </Modal>
      )}
    </li>
  );
}

/** Direct are the grants that name somebody by themselves. */
function Direct({ user }: { user: string }) {
  const found = useQuery({ queryKey: ["mentions", "users", user], queryFn: () => mentions("users", user) });
  if (!found.data) return <Busy />;
  const grants = [...new Map(found.data.filter((m) => m.type === "grants" || m.type === "mandates").map((m) => [`${m.type}/${m.id}`, m])).values()];
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.person.direct")}</h2>
      <ul className="px-4 py-2">
        {grants.map((m) => (
          <li key={`${m.type}/${m.id}`} className="py-0.5">
            <RecordLink type={m.type} id={m.id} name={m.name} /> <span className="text-[0.86rem] text-soft">{t(`console.type.${m.type}`)}</span>
          </li>
        ))}
      </ul>
      {grants.length === 0 && <p className="px-4 pb-3 text-soft">{t("console.person.no_direct")}</p>}
    </section>
  );
}
