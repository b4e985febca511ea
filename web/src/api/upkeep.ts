import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Finding = Schemas["Finding"];

export const findings = (dismissed: boolean, kind?: string) => answer(api.GET("/api/v1/findings", { params: { query: { dismissed, kind } } }));
export const dismiss = (body: Schemas["Dismiss"]) => answer(api.POST("/api/v1/findings/dismissals", { body }));
export const reopen = (key: string) => answer(api.DELETE("/api/v1/findings/dismissals", { params: { query: { key } } }));
