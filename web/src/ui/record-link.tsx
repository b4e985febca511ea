import { useQuery } from "@tanstack/react-query";
import { Link } from "react-router";
import { names } from "../api/client";
import { useReads } from "../session/mandates";

export const recordPath = (type: string, id: string) => `/records/${type}/${encodeURIComponent(id)}`;

/** useNames gives the name of a record, or its id where the name is not at hand. */
export function useNames() {
  const { data } = useQuery({ queryKey: ["names"], queryFn: names, staleTime: 30_000 });
  return (type: string, id: string) => data?.[type]?.[id] ?? id;
}

/** RecordLink leads to a record; for somebody who sees no records it is its name alone. */
export function RecordLink({ type, id, name }: { type: string; id: string; name?: string }) {
  const nameOf = useNames();
  const shown = name ?? nameOf(type, id);
  if (!useReads()) return <span title={id}>{shown}</span>;
  return (
    <Link className="link" to={recordPath(type, id)} title={shown === id ? undefined : id}>
      {shown}
    </Link>
  );
}

/** RecordLinks lists links, and says how many more there are. */
export function RecordLinks({ type, ids, most = 4 }: { type: string; ids: string[]; most?: number }) {
  return (
    <>
      {ids.slice(0, most).map((id, i) => (
        <span key={id}>
          {i > 0 && ", "}
          <RecordLink type={type} id={id} />
        </span>
      ))}
      {ids.length > most && <span className="text-soft"> +{ids.length - most}</span>}
    </>
  );
}
