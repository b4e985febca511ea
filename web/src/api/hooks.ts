import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Hook = Schemas["Hook"];
export type NewHook = Schemas["NewHook"];
export type HookKind = NonNullable<NewHook["kinds"]>[number];

const of = (id: string) => ({ path: { id } });

export const hooks = () => answer(api.GET("/api/v1/hooks"));
export const newHook = (body: NewHook) => answer(api.POST("/api/v1/hooks", { body }));
export const putHook = (id: string, body: NewHook) => answer(api.PUT("/api/v1/hooks/{id}", { params: of(id), body }));
export const dropHook = (id: string) => answer(api.DELETE("/api/v1/hooks/{id}", { params: of(id) }));
export const testHook = (id: string) => answer(api.POST("/api/v1/hooks/{id}/test", { params: of(id) }));
