import { useForm, type DefaultValues, type Path, type PathValue } from "react-hook-form";
import { fieldsOf, type Row, type Type } from "../../api/records";

/** Form is a record that somebody is filling in. */
export type Form<T extends Type> = {
  type: T;
  row: Row<T>;
  isNew: boolean;
  /** set changes a field; undefined takes it away. What depends on what the field holds is given as a function of it. */
  set: <K extends keyof Row<T> & string>(name: K, value: Row<T>[K] | undefined | ((old: Row<T>[K] | undefined) => Row<T>[K] | undefined)) => void;
  /** faultOf is what the service says is wrong with a field. */
  faultOf: (name: keyof Row<T> & string) => string;
};

/** useRecordForm keeps what is typed into a form that begins with a record; going is what was typed before a reload. */
export function useRecordForm<T extends Type>(type: T, begin: Row<T>, going?: Row<T>) {
  const form = useForm<Row<T>>({ defaultValues: (going ?? begin) as DefaultValues<Row<T>> });
  // The library names fields by paths; here a path is a field of the record, never a dotted one.
  const put = (name: string, value: unknown) => {
    const path = name as Path<Row<T>>;
    const next: unknown = typeof value === "function" ? value(form.getValues(path)) : value;
    form.setValue(path, next as PathValue<Row<T>, Path<Row<T>>>, { shouldDirty: true, shouldTouch: true });
  };
  return {
    row: pruned(form.watch()) as Row<T>,
    touched: form.formState.isDirty || going !== undefined,
    latest: () => pruned(form.getValues()) as Row<T>,
    set: put,
    replace: (row: Row<T>) => {
      const values: Record<string, unknown> = { ...row };
      for (const f of fieldsOf(type)) put(f.name, values[f.name]);
    },
  };
}

/** pruned is a value without what is empty: a text, a list or an object that has nothing in it is not there. What is in a list stays in its place. */
function pruned(value: unknown): unknown {
  if (Array.isArray(value)) return value.map(pruned);
  if (value === null || typeof value !== "object") return value;
  return Object.fromEntries(
    Object.entries(value)
      .map(([k, v]): [string, unknown] => [k, pruned(v)])
      .filter(([, v]) => !isEmpty(v)),
  );
}

const isEmpty = (v: unknown) =>
  v === undefined || v === null || v === "" || (Array.isArray(v) ? v.length === 0 : typeof v === "object" && Object.keys(v).length === 0);
