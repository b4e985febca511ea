import { answer, api, ApiError } from "./client";
import { looking, type Why } from "./edits";
import { records, type RecordField, type Records } from "./records.gen";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];

/** Type is a type of record, the settings among them; Listed is one of which there are many. */
export type Type = keyof Records;
export type Listed = Exclude<Type, "settings">;

/** Row is a record as the service writes it. The settings are one record, which has no name. */
export type Row<T extends Type = Type> = Records[T] & { id?: string; name?: string };
/** Page is a page of a list. Long lists of its records are counted, not told: entries are how many each has, by id. */
export type Page<T extends Listed> = { items: Row<T>[]; total: number; next?: string; entries?: Record<string, number> };

export type Device = Schemas["Device"];
export type User = Schemas["User"];
export type UserGroup = Schemas["UserGroup"];
export type DeviceGroup = Schemas["DeviceGroup"];
export type Grant = Schemas["Grant"];
export type Expectation = Schemas["Expectation"];
export type Line = Schemas["Line"];
export type Right = Schemas["Right"];
export type Schedule = Schemas["Schedule"];
export type Window = Schemas["Window"];
export type Mandate = Schemas["Mandate"];
export type Membership = Exclude<Schemas["Member"], string>;
export type Mention = Schemas["Mention"];

export const isType = (name: string): name is Type => name in records;

/** typeOf is the type that the service has named. */
export function typeOf(name: string): Type {
  if (!isType(name)) throw new Error(`no type of record: ${name}`);
  return name;
}

/** fieldsOf are the fields of a type of record, in the order of a document. */
export const fieldsOf = (type: Type): RecordField[] => records[type];

/** idOf is the id of a record; the settings have their own name. */
export const idOf = (row: Row) => row.id ?? "settings";

/** titleOf is what people know a record by. */
export const titleOf = (row: Row) => row.name ?? idOf(row);

/** membershipOf reads an entry of the members of a group: one without ends is written as the user's id alone. */
export const membershipOf = (m: Schemas["Member"]): Membership => (typeof m === "string" ? { user: m } : m);

// The routes of all types have one shape. Here, and nowhere else, that of users stands for it.
const all = (type: Type) => `/api/v1/${type}` as "/api/v1/users";
const one = (type: Type) => (type === "settings" ? "/api/v1/settings" : `/api/v1/${type}/{id}`) as "/api/v1/users/{id}"; // there is one of them
const of = <T extends Type>(answer: unknown) => answer as Row<T>;

export type ListQuery = { limit?: number; cursor?: string; q?: string; sort?: string; filter?: Record<string, string> };

/** list reads a page of the records of a type. */
export async function list<T extends Listed>(type: T, { filter, ...query }: ListQuery): Promise<Page<T>> {
  const { items, ...page } = await answer(api.GET(all(type), { params: { query: { ...query, ...filter, short: true } } }));
  return { ...page, items: items.map((r) => of<T>(r)) };
}

export const get = async <T extends Type>(type: T, id: string) => of<T>(await answer(api.GET(one(type), { params: { path: { id } } })));

/** Tagged is a record with the entity tag that it had when it was read. */
export type Tagged<T extends Type> = { row: Row<T>; tag: string };

/** read reads a record that is going to be changed. */
export async function read<T extends Type>(type: T, id: string): Promise<Tagged<T>> {
  const { data, error, response } = await api.GET(one(type), { params: { path: { id } } });
  if (!response.ok) throw new ApiError(response.status, error);
  return { row: of<T>(data), tag: response.headers.get("ETag") ?? "" };
}

/** allowed lists the methods that one may use on a record. */
export async function allowed(type: Type, id: string): Promise<string[]> {
  const { error, response } = await api.GET(one(type), { params: { path: { id } } });
  if (!response.ok) throw new ApiError(response.status, error);
  return (response.headers.get("Allow") ?? "").split(", ");
}

/** put makes a record what it says; tag, where there is one, is refused if somebody else has changed it. */
export const put = <T extends Type>(type: T, row: Row<T>, tag: string | undefined, dryRun: boolean, why?: Why) => {
  if (type === "settings")
    return answer(
      api.PATCH("/api/v1/settings", {
        params: { query: looking(dryRun, why), header: { "If-Match": tag } },
        headers: { "Content-Type": "application/merge-patch+json" },
        body: { ...nothing, ...row },
      }),
    );
  return answer(
    api.PUT(one(type), {
      params: { path: { id: idOf(row) }, query: looking(dryRun, why), header: tag ? { "If-Match": tag } : { "If-None-Match": "*" } },
      body: row as Schemas["UserInput"],
    }),
  );
};

/** What is taken out of the settings where they do not say it: they are changed field by field. */
const nothing = Object.fromEntries(fieldsOf("settings").map((f) => [f.name, null]));

/** create makes a record, whose id the service makes of its name where it has none. */
export const create = <T extends Type>(type: T, row: Row<T>, dryRun: boolean, why?: Why) =>
  answer(api.POST(all(type), { params: { query: looking(dryRun, why) }, body: row as Schemas["UserInput"] }));

export const remove = (type: Type, id: string, cascade: boolean, dryRun: boolean, accept = false, why?: Why) =>
  answer(api.DELETE(one(type), { params: { path: { id }, query: { cascade, ...looking(dryRun, why), accept_gains: accept } } }));

export const mentions = (type: Type, id: string) =>
  answer(api.GET(`/api/v1/${type}/{id}/mentions` as "/api/v1/users/{id}/mentions", { params: { path: { id } } }));

export type Names = Record<string, Record<string, string>>;

/** names gives the names of some records, written type/id. */
export const names = (refs: string[]): Promise<Names> => answer(api.GET("/api/v1/names", { params: { query: { of: refs } } }));
