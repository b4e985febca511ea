import { Plus } from "lucide-react";
import { Link } from "react-router";
import type { Row } from "../api/records";
import { Inside } from "../records/inside";
import { Rest } from "../records/rest";
import { Uses } from "../reach/uses";
import { useMakes } from "../session/mandates";
import { t } from "../words";

export function SitePage({ row }: { row: Row<"sites"> }) {
  const makes = useMakes();
  return (
    <>
      <Inside filter="site" id={row.id}>
        {makes("devices") && (
          <Link className="button" to={`/records/devices/new?site=${encodeURIComponent(row.id)}`}>
            <Plus size={15} aria-hidden /> {t("console.new.devices")}
          </Link>
        )}
      </Inside>
      <Uses type="sites" id={row.id} />
      <Rest type="sites" row={row} />
    </>
  );
}
