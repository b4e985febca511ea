import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Draft = Schemas["Draft"];
export type DraftHead = Schemas["DraftHead"];
export type Conflict = Schemas["Conflict"];

const of = (id: string) => ({ path: { id } });

export const drafts = (all: boolean) => answer(api.GET("/api/v1/drafts", { params: { query: { all } } }));
export const getDraft = (id: string) => answer(api.GET("/api/v1/drafts/{id}", { params: of(id) }));
export const newDraft = (name: string, reason: string, changes?: Schemas["Edit"][]) => answer(api.POST("/api/v1/drafts", { body: { name, reason, changes } }));
export type DraftAct = Schemas["DraftAct"];
export const newActs = (name: string, acts: DraftAct[]) => answer(api.POST("/api/v1/drafts", { body: { name, acts } }));
export const wouldReach = (body: Schemas["WouldReach"]) => answer(api.POST("/api/v1/preview/reach", { body }));
export const dropDraft = (id: string) => answer(api.DELETE("/api/v1/drafts/{id}", { params: of(id) }));
export const takeOut = (id: string, type: string, record: string) =>
  answer(api.DELETE("/api/v1/drafts/{id}/changes", { params: { ...of(id), query: { type, record } } }));
export const settle = (id: string, body: Schemas["Settle"]) => answer(api.POST("/api/v1/drafts/{id}/resolution", { params: of(id), body }));
export const approve = (id: string, digest: string) => answer(api.POST("/api/v1/drafts/{id}/approval", { params: of(id), body: { digest } }));
export const apply = (id: string, body: Schemas["ApplyDraft"]) => answer(api.POST("/api/v1/drafts/{id}/application", { params: of(id), body }));
