import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { today, type Ending, type Today } from "../api/today";
import { Subscribe } from "../feeds/subscribe";
import { serviceNow } from "../session/clock";
import { Requests } from "../mine/requests";
import { useMakes } from "../session/mandates";
import { Busy, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { distance, local } from "../ui/time";
import { Sign } from "../ui/trail";
import { number, t } from "../words";
import { Begin } from "./begin";
import { LastChanges } from "./changes";
import { listLook, Section } from "./section";

/** TodayPage is where one lands: what is open, what ends, what is held back, what happened, and what is still to be done. */
export function TodayPage() {
  const makes = useMakes();
  const found = useQuery({ queryKey: ["today"], queryFn: today, refetchInterval: 60_000 });
  if (found.error) return <Trouble error={found.error} />;
  if (!found.data) return <Busy />;
  const day = found.data;
  return (
    <div className="mx-auto max-w-6xl">
      <div className="mb-4 flex flex-wrap items-baseline gap-3">
        <h1>{t("console.place.today")}</h1>
        <p className="text-soft tabular-nums">
          {local(day.at, day.zone)} {day.zone}
        </p>
      </div>
      {makes("sites") && isNew(day) && <Begin day={day} />}
      <div className="grid items-start gap-5 lg:grid-cols-[1.4fr_1fr]">
        <div className="flex min-w-0 flex-col gap-5">
          <Requests />
          <Endings day={day} />
          <LastChanges title={t("console.today.changes")} list={day.revisions} zone={day.zone} />
        </div>
        <div className="flex min-w-0 flex-col gap-5">
          <Open day={day} />
          <LockedOut day={day} />
          <Invited day={day} />
          <ToLook day={day} />
        </div>
      </div>
    </div>
  );
}

/** A service is new until it has the grant that everything else is for. */
const isNew = (day: Today) => (day.counts.grants ?? 0) === 0 || (day.counts.devices ?? 0) === 0;

function Open({ day }: { day: Today }) {
  const now = serviceNow();
  return (
    <Section title={t("console.today.open")} to="/times" count={day.schedules.filter((s) => s.open).length}>
      <ul className={listLook}>
        {day.schedules.map((s) => (
          <li key={s.id} className="flex items-baseline gap-2">
            <span className="self-center">
              <Sign state={s.open ? "holds" : "beyond"} size={13} />
            </span>
            <span className="min-w-0 flex-1">
              <RecordLink type="schedules" id={s.id} name={s.name} />
            </span>
            <span className="text-right text-[0.86rem] text-soft tabular-nums" title={s.until ? `${local(s.until, s.zone)} ${s.zone}` : undefined}>
              {t(s.open ? "console.today.closes" : "console.today.opens", { time: s.until ? distance(s.until, now) : t("console.today.not_soon") })}
            </span>
          </li>
        ))}
      </ul>
      {day.schedules.length === 0 && <p className="px-4 py-3 text-soft">{t("console.today.no_schedules")}</p>}
    </Section>
  );
}

function Endings({ day }: { day: Today }) {
  const now = serviceNow();
  return (
    <Section title={t("console.today.ending")} count={day.endings}>
      <ul className={listLook}>
        {day.ending.map((e) => (
          <li key={`${e.kind} ${e.user?.id ?? ""} ${e.group?.id ?? ""} ${e.grant?.id ?? ""} ${e.at}`} className="flex items-baseline gap-3">
            <span className="min-w-0 flex-1">
              <What ending={e} />
            </span>
            <span className="text-right text-[0.86rem] tabular-nums" title={e.at}>
              {local(e.at, day.zone)} <span className="text-soft">{distance(e.at, now)}</span>
            </span>
          </li>
        ))}
      </ul>
      {day.endings === 0 && <p className="px-4 py-3 text-soft">{t("console.today.no_endings")}</p>}
      <div className="flex justify-end px-4 pb-3">
        <Subscribe kind="ends" />
      </div>
      {day.endings > day.ending.length && <p className="px-4 pb-3 text-soft">{t("console.and_more", { n: number(day.endings - day.ending.length) })}</p>}
    </Section>
  );
}

function What({ ending: e }: { ending: Ending }) {
  return (
    <>
      {e.user && <RecordLink type="users" id={e.user.id} name={e.user.name} />}
      {e.group && (
        <>
          {" "}
          {t("console.today.in_group")} <RecordLink type="user_groups" id={e.group.id} name={e.group.name} />
        </>
      )}
      {e.grant && <RecordLink type="grants" id={e.grant.id} name={e.grant.name} />} {e.token && <span>“{e.token}” </span>}
      <span className="text-[0.86rem] text-soft">{t(`console.today.kind_${e.kind}`)}</span>
    </>
  );
}

function LockedOut({ day }: { day: Today }) {
  const now = serviceNow();
  return (
    <Section title={t("console.today.lockouts")} count={day.lockouts.length}>
      <ul className={listLook}>
        {day.lockouts.map((l) => (
          <li key={l.device.id}>
            <span className="inline-flex items-center gap-1.5">
              <Sign state="closes" size={13} />
              <RecordLink type="devices" id={l.device.id} name={l.device.name} />
            </span>{" "}
            <span className="text-[0.86rem] text-soft">
              {l.reason}
              {l.until && ` · ${t("console.until", { time: `${local(l.until, l.zone)} (${distance(l.until, now)})` })}`}
            </span>
          </li>
        ))}
      </ul>
      {day.lockouts.length === 0 && <p className="px-4 py-3 text-soft">{t("console.today.no_lockouts")}</p>}
    </Section>
  );
}

function Invited({ day }: { day: Today }) {
  if (day.invitees === 0) return null;
  return (
    <Section title={t("console.today.invited")} count={day.invitees} to="/people?status=invited">
      <ul className={listLook}>
        {day.invited.map((u) => (
          <li key={u.id}>
            <RecordLink type="users" id={u.id} name={u.name} />
          </li>
        ))}
      </ul>
    </Section>
  );
}

/** Where what needs a look is listed; findings, by their kind. */
const looks: Record<string, string> = {
  sources: "/people/sources",
  vanished: "/people/sources",
  hooks: "/service",
  clock: "/service",
  machines: "/service/machines",
  drafts: "/upkeep/drafts",
  drafts_failed: "/upkeep/drafts",
  reviews: "/upkeep/reviews",
  reviews_over: "/upkeep/reviews",
  unmet: "/upkeep/expectations",
};

const mostLooks = 10;

function ToLook({ day }: { day: Today }) {
  if (day.look.length === 0) return null;
  return (
    <Section title={t("console.today.look")}>
      <ul className={listLook}>
        {day.look.slice(0, mostLooks).map((l) => (
          <li key={l.kind} className="flex justify-between gap-3">
            <Link className="link" to={looks[l.kind] ?? `/upkeep?kind=${l.kind}`}>
              {t(looks[l.kind] ? `console.today.look_${l.kind}` : `upkeep.kind.${l.kind}`)}
            </Link>
            <span className="tabular-nums">{number(l.count)}</span>
          </li>
        ))}
        {day.look.length > mostLooks && (
          <li>
            <Link className="link" to="/upkeep">
              {t("console.today.look_all")}
            </Link>
          </li>
        )}
      </ul>
    </Section>
  );
}
