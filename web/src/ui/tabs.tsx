import clsx from "clsx";
import { Plus } from "lucide-react";
import { Link, NavLink } from "react-router";
import { isType } from "../api/records";
import { useMakes, useSees, useWhole } from "../session/mandates";
import { t } from "../words";

/** The sheets by which records come in and go out as CSV. */
const sheets: Record<string, string> = { users: "users", user_groups: "members", devices: "devices", device_groups: "device_lists" };

/** PlaceHead is the head of a place: its name, its lists, and the button for a new record. */
export function PlaceHead({ place, tabs, type }: { place: string; tabs: readonly { to: string; type: string }[]; type: string }) {
  const makes = useMakes()(type);
  const whole = useWhole();
  return (
    <div className="mb-4 flex flex-wrap items-center gap-x-6 gap-y-2">
      <h1>{t(`console.place.${place}`)}</h1>
      {tabs.length > 1 && <PlaceTabs place={place} tabs={tabs} />}
      {whole && sheets[type] && (
        <Link className="button ml-auto" to={`/sheets?sheet=${sheets[type]}`}>
          {t("console.sheets.title")}
        </Link>
      )}
      {type === "users" && makes && whole && (
        <Link className="button" to="/records/users/new?status=invited">
          {t("console.people.invite")}
        </Link>
      )}
      {makes && (type !== "users" || whole) && (
        <Link className={clsx("button primary", !(whole && sheets[type]) && "ml-auto")} to={`/records/${type}/new`}>
          <Plus size={15} aria-hidden /> {t(`console.new.${type}`)}
        </Link>
      )}
    </div>
  );
}

type Tab = { to: string; type: string };

/** PlaceTabs are the lists of a place: of records that one sees, and others. */
export function PlaceTabs({ place, tabs }: { place: string; tabs: readonly Tab[] }) {
  const sees = useSees();
  const whole = useWhole();
  return (
    <nav aria-label={t(`console.place.${place}`)} className="flex flex-wrap gap-1">
      {tabs
        .filter((tab) => (isType(tab.type) ? sees(tab.type) : whole || tab.type !== "sources"))
        .map((tab) => (
          <NavLink
            key={tab.type}
            to={tab.to}
            end
            className={({ isActive }) => clsx("rounded-md px-2.5 py-1 font-medium", isActive ? "bg-sunk text-ink" : "text-soft hover:text-ink")}
          >
            {t(`console.types.${tab.type}`)}
          </NavLink>
        ))}
    </nav>
  );
}
