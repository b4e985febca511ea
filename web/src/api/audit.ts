import { base } from "../base";
import { answer, api } from "./client";
import type { components } from "./schema.gen";

export type Entry = components["schemas"]["AuditEntry"];
export type ServiceSettings = components["schemas"]["ServiceSettings"];
export type AuditFilter = { kind?: string[]; outcome?: string[]; of?: string; device?: string; right?: string; from?: string; since?: string; until?: string };

export const audit = (query: AuditFilter & { limit: number; cursor?: string }) => answer(api.GET("/api/v1/audit", { params: { query } }));
export const revision = (n: number) => answer(api.GET("/api/v1/revisions/{id}", { params: { path: { id: String(n) } } }));
export const revisionWithImpact = (n: number) => answer(api.GET("/api/v1/revisions/{id}", { params: { path: { id: String(n) }, query: { impact: true } } }));
export type RevisionFilter = { by?: string; type?: string; id?: string; since?: string; until?: string };
export const revisions = (query: RevisionFilter & { limit?: number; cursor?: string }) => answer(api.GET("/api/v1/revisions", { params: { query } }));
export const comparison = (from: string, to: string) => answer(api.GET("/api/v1/comparison", { params: { query: { from, to } } }));
export const verifyAudit = () => answer(api.POST("/api/v1/audit/verify", { body: {} }));
export const checkpoint = () => answer(api.POST("/api/v1/audit/checkpoints"));
export const serviceSettings = () => answer(api.GET("/api/v1/service"));
export const setServiceSettings = (body: Partial<ServiceSettings>) =>
  answer(api.PATCH("/api/v1/service", { headers: { "Content-Type": "application/merge-patch+json" }, body }));

/** exportAddress is where the entries of a filter are taken from. */
export function exportAddress(filter: AuditFilter, format: "csv" | "jsonl") {
  const query = new URLSearchParams({ format });
  for (const [name, value] of Object.entries(filter)) for (const v of [value].flat()) if (v) query.append(name, v);
  return `${base}api/v1/audit/export?${query.toString()}`;
}
