import { Plus } from "lucide-react";
import { Link } from "react-router";
import type { Row } from "../api/records";
import { Facts } from "../records/facts";
import { Inside } from "../records/inside";
import { Mentioned } from "../records/mentioned";
import { Uses } from "../reach/uses";
import { t } from "../words";

export function SitePage({ row }: { row: Row<"sites"> }) {
  return (
    <>
      <Inside filter="site" id={row.id}>
        <Link className="button" to={`/records/devices/new?site=${encodeURIComponent(row.id)}`}>
          <Plus size={15} aria-hidden /> {t("console.new.devices")}
        </Link>
      </Inside>
      <Uses type="sites" id={row.id} />
      <div className="grid items-start gap-5 lg:grid-cols-[1.5fr_1fr]">
        <Facts type="sites" row={row} />
        <Mentioned type="sites" id={row.id} />
      </div>
    </>
  );
}
