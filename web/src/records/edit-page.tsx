import { useQuery } from "@tanstack/react-query";
import { useParams, useSearchParams } from "react-router";
import { isType, read, titleOf, type Row, type Tagged, type Type } from "../api/records";
import { Generated } from "../ui/form/generated";
import { RecordForm } from "../ui/form/record-form";
import { Busy, Trouble } from "../ui/notice";
import { t } from "../words";
import { things } from "./things";

/** The page that edits a record, or makes a new one. */
export function EditPage() {
  const { type = "", id } = useParams();
  if (!isType(type)) return <Trouble error={new Error(t("console.nothing_here"))} />;
  return id === undefined ? <NewOf type={type} /> : <EditOf key={`${type}/${id}`} type={type} id={id} />;
}

function EditOf<T extends Type>({ type, id }: { type: T; id: string }) {
  const kept = useQuery({ queryKey: ["edit", type, id], queryFn: () => read(type, id), staleTime: Infinity, gcTime: 0 });
  if (kept.error) return <Trouble error={kept.error} />;
  if (!kept.data) return <Busy />;
  return <FormOf key={kept.data.tag} type={type} begin={kept.data} isNew={false} />;
}

/** NewOf begins with what its address says: fields by their names, and an object of more of them. */
function NewOf<T extends Type>({ type }: { type: T }) {
  const [params] = useSearchParams();
  const { with: given, ...plain } = Object.fromEntries(params);
  const more = readObject(given ?? "{}");
  if (!more) return <Trouble error={new Error(t("console.edit.bad_address"))} />;
  return <FormOf key={`${type}?${params}`} type={type} begin={{ row: { ...things[type].fresh, ...plain, ...more } as Row<T>, tag: "" }} isNew />;
}

/** readObject reads what an address says to begin with; undefined where that is no object. */
function readObject(text: string): object | undefined {
  try {
    const value: unknown = JSON.parse(text);
    return value && typeof value === "object" && !Array.isArray(value) ? value : undefined;
  } catch {
    return undefined;
  }
}

/** Most records reach nobody by themselves. */
const useNothing = () => undefined;

function FormOf<T extends Type>({ type, begin, isNew }: { type: T; begin: Tagged<T>; isNew: boolean }) {
  const { Fields, Beside, useFar } = things[type];
  const far = (useFar ?? useNothing)();
  return (
    <RecordForm
      type={type}
      begin={begin}
      isNew={isNew}
      far={far}
      title={isNew ? t(`console.new.${type}`) : type === "settings" ? t("console.type.settings") : titleOf(begin.row)}
      beside={Beside && ((form) => <Beside form={form} />)}
    >
      {(form) => (Fields ? <Fields form={form} /> : <Generated form={form} />)}
    </RecordForm>
  );
}
