import { Check } from "lucide-react";
import { Link } from "react-router";
import type { Today } from "../api/today";
import { Doing } from "../impact/doing";
import { Modal } from "../ui/modal";
import { t } from "../words";
import { starter } from "./starter";

/** The way from an empty service to a first answer, in the order of the work: each step is done once there is one of it. */
const steps = [
  { key: "sites", of: ["sites"], to: "/records/sites/new" },
  { key: "devices", of: ["devices"], to: "/sheets?sheet=devices" },
  { key: "groups", of: ["user_groups"], to: "/records/user_groups/new" },
  { key: "people", of: ["users"], to: "/records/users/new?status=invited", least: 2 },
  { key: "rights", of: ["roles"], to: "/records/roles/new" },
  { key: "times", of: ["schedules"], to: "/records/schedules/new" },
  { key: "grants", of: ["grants"], to: "/records/grants/new" },
];

/** Begin shows a new service the way, ticked off as it is done, and offers something to cut down. */
export function Begin({ day }: { day: Today }) {
  const bare = ["schedules", "roles", "grants"].every((type) => (day.counts[type] ?? 0) === 0);
  return (
    <section className="sheet mb-5 px-5 py-4" aria-label={t("console.begin.title")}>
      <div className="mb-2 flex flex-wrap items-center gap-3">
        <h2 className="mr-auto text-base">{t("console.begin.title")}</h2>
        {bare && (
          <Modal title={t("console.begin.starter")} button={t("console.begin.starter")}>
            {(close) => (
              <>
                <p>{t("console.begin.starter_text")}</p>
                <Doing edits={starter()} label={t("console.begin.starter_go")} close={close} changes />
              </>
            )}
          </Modal>
        )}
      </div>
      <ol className="grid gap-x-6 gap-y-1 sm:grid-cols-2">
        {steps.map((s, i) => {
          const done = s.of.some((type) => (day.counts[type] ?? 0) >= (s.least ?? 1));
          return (
            <li key={s.key} className="flex items-baseline gap-2 py-0.5" data-done={done}>
              <span className="w-5 shrink-0 text-right tabular-nums">
                {done ? <Check size={15} aria-label={t("console.begin.done")} className="inline text-holds" /> : `${i + 1}.`}
              </span>
              <span>
                <Link className="link" to={s.to}>
                  {t(`console.begin.${s.key}`)}
                </Link>{" "}
                <span className="text-[0.86rem] text-soft">{t(`console.begin.${s.key}_why`)}</span>
              </span>
            </li>
          );
        })}
        <li className="flex items-baseline gap-2 py-0.5">
          <span className="w-5 shrink-0 text-right tabular-nums">{steps.length + 1}.</span>
          <span>
            <Link className="link" to="/check">
              {t("console.begin.check")}
            </Link>{" "}
            <span className="text-[0.86rem] text-soft">{t("console.begin.check_why")}</span>
          </span>
        </li>
      </ol>
    </section>
  );
}
