import { useQuery } from "@tanstack/react-query";
import { batched } from "./batched";
import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Source = Schemas["Source"];
export type NewSource = Schemas["NewSource"];
export type SourceRun = Schemas["SourceRun"];
export type SourceLook = Schemas["SourceLook"];
export type SourceTest = Schemas["SourceTest"];
export type SourceMatch = Schemas["SourceMatch"];
export type SourceProblem = Schemas["SourceProblem"];
export type SourceDays = Schemas["SourceDays"];
export type SourcePerson = Schemas["SourcePerson"];
export type Origin = Schemas["Origin"];

const of = (id: string) => ({ path: { id } });

export const signOns = () => answer(api.GET("/api/v1/sign-on"));
export const sources = () => answer(api.GET("/api/v1/sources"));
export const getSource = (id: string) => answer(api.GET("/api/v1/sources/{id}", { params: of(id) }));
export const newSource = (body: NewSource) => answer(api.POST("/api/v1/sources", { body }));
export const putSource = (id: string, body: NewSource) => answer(api.PUT("/api/v1/sources/{id}", { params: of(id), body }));
export const dropSource = (id: string) => answer(api.DELETE("/api/v1/sources/{id}", { params: of(id) }));
export const testSource = (body: NewSource, of?: string) => answer(api.POST("/api/v1/sources/test", { params: { query: { of } }, body }));
export const bringToSource = (id: string, text: string, media: string) =>
  answer(api.PUT("/api/v1/sources/{id}/content", { params: of(id), body: text, bodySerializer: (b) => b, headers: { "Content-Type": media } }));
export const lookAtSource = (id: string) => answer(api.POST("/api/v1/sources/{id}/look", { params: of(id) }));
export const readSource = (id: string, body: Schemas["ReadSource"]) => answer(api.POST("/api/v1/sources/{id}/read", { params: of(id), body }));
export const findInSource = (id: string, q: string) => answer(api.GET("/api/v1/sources/{id}/find", { params: { ...of(id), query: { q } } }));
export const sourceToken = (id: string) => answer(api.POST("/api/v1/sources/{id}/tokens", { params: of(id), body: {} }));
export const linkSource = (id: string, body: Schemas["LinkSource"]) => answer(api.POST("/api/v1/sources/{id}/links", { params: of(id), body }));

/** Origins are the types of records that can come from a source. */
export type Origins = "users" | "user_groups" | "calendars" | "devices" | "sites";

const isKept = (type: string): type is Origins => ["users", "user_groups", "calendars", "devices", "sites"].includes(type);

const askOrigins = (type: Origins) =>
  batched(100, async (ids) => {
    const found = await answer(api.GET("/api/v1/origins", { params: { query: { type, ids: ids.join() } } }));
    return new Map(found.map((o) => [o.id, o]));
  });
const originOf = Object.fromEntries((["users", "user_groups", "calendars", "devices", "sites"] as const).map((type) => [type, askOrigins(type)])) as Record<
  Origins,
  ReturnType<typeof askOrigins>
>;

/** useOriginMark tells of one of many rows from which source it comes; nothing is asked where no source has brought anything. */
export function useOriginMark(type: string, id: string, sourced: boolean): Origin | null {
  const found = useQuery({
    queryKey: ["origin-mark", type, id],
    queryFn: async () => (isKept(type) ? ((await originOf[type](id)) ?? null) : null),
    enabled: sourced && isKept(type),
    staleTime: 60_000,
  });
  return found.data ?? null;
}

/** useOrigins tells of a record from where it comes, and what of it is kept there. */
export function useOrigins(type: Origins, id: string): Origin[] {
  const found = useQuery({
    queryKey: ["origins", type, id],
    queryFn: () => answer(api.GET("/api/v1/origins", { params: { query: { type, ids: id } } })),
    enabled: id !== "",
  });
  return found.data ?? [];
}
