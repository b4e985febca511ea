import { useQuery } from "@tanstack/react-query";
import { useParams } from "react-router";
import { get, isType, titleOf, type Listed, type Row } from "../api/records";
import { Uses } from "../reach/uses";
import { OriginNote } from "../sources/origin";
import { Busy, Trouble } from "../ui/notice";
import { t } from "../words";
import { Actions } from "./actions";
import { Rest } from "./rest";
import { things } from "./things";

/** The page of one record: what it is for, what it is made of, and what refers to it. */
export function RecordPage() {
  const { type = "", id = "" } = useParams();
  if (!isType(type) || type === "settings") return <Trouble error={new Error(t("console.nothing_here"))} />;
  return <PageOf key={`${type}/${id}`} type={type} id={id} />;
}

function PageOf<T extends Listed>({ type, id }: { type: T; id: string }) {
  const record = useQuery({ queryKey: ["record", type, id], queryFn: () => get(type, id) });
  if (record.error) return <Trouble error={record.error} />;
  if (!record.data) return <Busy />;
  const row = record.data;
  const { Page, Actions: own } = things[type];
  const Own = own;
  return (
    <div className="mx-auto max-w-6xl">
      <p className="text-xs font-medium tracking-wide text-soft uppercase">{t(`console.type.${type}`)}</p>
      <div className="mb-4 flex flex-wrap items-baseline gap-3">
        <h1>{titleOf(row)}</h1>
        <code className="font-mono text-soft">{row.id}</code>
        <Actions type={type} row={row}>
          {Own && <Own row={row} />}
        </Actions>
      </div>
      {(type === "users" || type === "user_groups" || type === "calendars" || type === "devices" || type === "sites") && <OriginNote type={type} id={id} />}
      <div className="flex flex-col gap-5">{Page ? <Page row={row} /> : <Plain type={type} row={row} />}</div>
    </div>
  );
}

/** Plain is the page of a thing that has none of its own. */
function Plain<T extends Listed>({ type, row }: { type: T; row: Row<T> }) {
  const used = type === "rights" || type === "roles";
  return (
    <>
      {used && <Uses type={type} id={row.id} />}
      <Rest type={type} row={row} mentioned={type !== "mandates"} />
    </>
  );
}
