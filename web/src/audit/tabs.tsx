import clsx from "clsx";
import { NavLink } from "react-router";
import { t } from "../words";

/** RecordTabs lead to the entries of the record, and to the line of revisions. */
export function RecordTabs() {
  return (
    <nav aria-label={t("console.place.record")} className="flex gap-1 print:hidden">
      {[
        { to: "/record", key: "entries" },
        { to: "/history", key: "revisions" },
      ].map((tab) => (
        <NavLink
          key={tab.to}
          to={tab.to}
          className={({ isActive }) => clsx("rounded-md px-2.5 py-1 font-medium", isActive ? "bg-sunk text-ink" : "text-soft hover:text-ink")}
        >
          {t(`console.history.${tab.key}`)}
        </NavLink>
      ))}
    </nav>
  );
}
