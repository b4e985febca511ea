import { useQuery } from "@tanstack/react-query";
import clsx from "clsx";
import { Link, useParams } from "react-router";
import { get, list, mentions, type Grant, type Row, type User } from "../api/client";
import { OnlyIf, On, What, When } from "../grants/lines";
import { SchedulePreview } from "../edit/previews";
import { ReachSection } from "../reach/table";
import { Uses } from "../reach/uses";
import { Busy, Trouble } from "../ui/notice";
import { RecordLink } from "../ui/record-link";
import { t } from "../words";
import { Actions } from "./actions";
import { Facts } from "./facts";
import { Members } from "./members";

/** The page of one record: what it is, what it refers to, and what refers to it. */
export function RecordPage() {
  const { type = "", id = "" } = useParams();
  const record = useQuery({ queryKey: ["record", type, id], queryFn: () => get(type, id) });
  if (record.error) return <Trouble error={record.error} />;
  if (!record.data) return <Busy />;
  const row = record.data;
  const referable = type !== "grants" && type !== "mandates"; // nothing refers to those
  return (
    <div className="mx-auto max-w-6xl">
      <p className="text-xs font-medium tracking-wide text-soft uppercase">{t(`console.type.${type}`)}</p>
      <div className="mb-4 flex flex-wrap items-baseline gap-3">
        <h1>{row.name ?? row.id}</h1>
        <code className="font-mono text-soft">{row.id}</code>
        <Actions type={type} row={row} />
      </div>
      <div className={clsx("grid items-start gap-5", referable && "lg:grid-cols-[1.5fr_1fr]")}>
        <div className="flex min-w-0 flex-col gap-5">
          <Facts type={type} row={row} />
          {type === "grants" && <Lines grant={row as unknown as Grant} />}
          {type === "sites" && <Inside filter="site" id={id} of="devices" />}
          {type === "schedules" && <SchedulePreview schedule={row} />}
          {type === "user_groups" && <Members group={row} />}
        </div>
        {referable && <Mentioned type={type} id={id} />}
      </div>
      <div className="mt-5 flex flex-col gap-5">
        {(type === "users" || type === "devices" || type === "user_groups") && <ReachSection type={type} id={id} />}
        {["rights", "roles", "schedules", "sites", "device_groups", "grants", "user_groups"].includes(type) && <Uses type={type} id={id} />}
        {type === "device_groups" && <Inside filter="group" id={id} of="devices" />}
      </div>
    </div>
  );
}

function Lines({ grant }: { grant: Grant }) {
  return (
    <section className="sheet overflow-x-auto">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.lines")}</h2>
      <table className="w-full">
        <thead>
          <tr className="text-xs text-soft">
            {["what", "on", "when", "only_if", "limits"].map((k) => (
              <th key={k} scope="col" className="px-4 py-2">
                {t(`console.field.${k}`)}
              </th>
            ))}
          </tr>
        </thead>
        <tbody>
          {grant.lines?.map((line, i) => (
            <tr key={i} className="border-t border-line/60 align-top">
              {[
                <What key="w" line={line} />,
                <On key="o" line={line} />,
                <When key="t" line={line} />,
                <OnlyIf key="i" line={line} />,
                Object.entries(line.limits ?? {})
                  .map(([name, v]) => `${name}: ${String(v)}`)
                  .join(", ") || "–",
              ].map((cell, k) => (
                <td key={k} className="px-4 py-2">
                  {cell}
                </td>
              ))}
            </tr>
          ))}
        </tbody>
      </table>
    </section>
  );
}

const shown = 30;

function Inside({ of, filter, id }: { of: string; filter: string; id: string }) {
  const inside = useQuery({ queryKey: ["inside", of, filter, id], queryFn: () => list(of, { limit: shown, filter: { [filter]: id } }) });
  if (!inside.data) return <Busy />;
  return (
    <section className="sheet">
      <h2 className="flex justify-between border-b border-line px-4 py-2.5">
        {t(`console.types.${of}`)}
        <span className="font-normal text-soft tabular-nums">{inside.data.total}</span>
      </h2>
      <ul className="grid gap-x-6 px-4 py-3 sm:grid-cols-2">
        {inside.data.items.map((r: Row) => (
          <li key={r.id} className="truncate py-0.5">
            <RecordLink type={of} id={r.id} name={r.name} />
            {of === "users" && (r as unknown as User).status !== "active" && <span className="text-breaks"> {t(`console.value.${String(r.status)}`)}</span>}
          </li>
        ))}
      </ul>
      {inside.data.total > shown && (
        <p className="px-4 pb-3">
          <Link className="link" to={`/${of === "users" ? "people" : of}?${filter}=${encodeURIComponent(id)}`}>
            {t("console.all", { n: inside.data.total })}
          </Link>
        </p>
      )}
    </section>
  );
}

function Mentioned({ type, id }: { type: string; id: string }) {
  const found = useQuery({ queryKey: ["mentions", type, id], queryFn: () => mentions(type, id) });
  if (!found.data) return <Busy />;
  const groups = Object.groupBy(found.data, (m) => m.type);
  return (
    <section className="sheet">
      <h2 className="border-b border-line px-4 py-2.5">{t("console.mentioned")}</h2>
      {found.data.length === 0 && <p className="px-4 py-3 text-soft">{t("console.not_mentioned")}</p>}
      {Object.entries(groups).map(([by, list]) => {
        const unique = [...new Map((list ?? []).map((m) => [m.id, m])).values()];
        return (
          <div key={by} className="border-b border-line/60 px-4 py-2.5 last:border-0">
            <h3 className="mb-1 text-xs font-medium text-soft">{t(`console.types.${by}`)}</h3>
            <ul>
              {unique.slice(0, 40).map((m) => (
                <li key={m.id} className="truncate py-0.5">
                  <RecordLink type={m.type} id={m.id} name={m.name} />
                </li>
              ))}
            </ul>
            {unique.length > 40 && <p className="text-soft">+{unique.length - 40}</p>}
          </div>
        );
      })}
    </section>
  );
}
