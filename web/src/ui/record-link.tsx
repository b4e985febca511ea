import { Link } from "react-router";
import { typeOf, type Listed } from "../api/records";
import { useReads } from "../session/mandates";
import { t } from "../words";
import { useName, usePointName } from "./names";

export const recordPath = (type: string, id: string) => (type === "settings" ? "/policy" : `/records/${type}/${encodeURIComponent(id)}`);

/** Name is the name of a record. */
export function Name({ type, id, name }: { type: Listed; id: string; name?: string }) {
  return <>{useName(type, id, name) ?? "…"}</>;
}

/** PointLink leads to the device of a point, written device/point. */
export function PointLink({ id }: { id: string }) {
  return <RecordLink type="devices" id={id.split("/")[0] ?? ""} name={usePointName(id) ?? "…"} />;
}

/** RecordLink leads to a record; for somebody who sees no records it is its name alone. Which type it is of, the service may have said. */
export function RecordLink({ type, id, name }: { type: string; id: string; name?: string }) {
  const reads = useReads();
  const known = useName(typeOf(type) as Listed, id, name) ?? "…";
  const shown = type === "settings" ? t("console.type.settings") : known;
  if (!reads) return <span title={id}>{shown}</span>;
  return (
    <Link className="link" to={recordPath(type, id)} title={shown === id ? undefined : id}>
      {shown}
    </Link>
  );
}

/** RecordLinks lists links, and says how many more there are. */
export function RecordLinks({ type, ids, most = 4, between = ", " }: { type: Listed; ids: string[]; most?: number; between?: string }) {
  return (
    <>
      {ids.slice(0, most).map((id, i) => (
        <span key={id}>
          {i > 0 && between}
          <RecordLink type={type} id={id} />
        </span>
      ))}
      {ids.length > most && <span className="text-soft"> +{ids.length - most}</span>}
    </>
  );
}
