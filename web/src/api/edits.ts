import { answer, api, ApiError, type Row } from "./client";
import type { components } from "./schema.gen";

export type Saved = components["schemas"]["Saved"];
export type Change = components["schemas"]["RecordChange"];
export type Edit = components["schemas"]["Edit"];

/** Tagged is a record with the entity tag that it had when it was read. */
export type Tagged = { row: Row; tag: string };

export async function read(type: string, id: string): Promise<Tagged> {
  const { data, error, response } = await api.GET(`/api/v1/${type}/{id}` as "/api/v1/users/{id}", { params: { path: { id } } });
  if (!response.ok) throw new ApiError(response.status, error);
  return { row: data as unknown as Row, tag: response.headers.get("ETag") ?? "" };
}

/** put makes a record what it says; tag, where there is one, is refused if somebody else has changed it. */
export const put = (type: string, row: Row, tag: string | undefined, dryRun: boolean) =>
  answer(
    api.PUT(`/api/v1/${type}/{id}` as "/api/v1/users/{id}", {
      params: { path: { id: row.id }, query: { dry_run: dryRun, impact: dryRun }, header: tag ? { "If-Match": tag } : { "If-None-Match": "*" } },
      body: row as never,
    }),
  );

export const create = (type: string, row: Row, dryRun: boolean) =>
  answer(api.POST(`/api/v1/${type}` as "/api/v1/users", { params: { query: { dry_run: dryRun, impact: dryRun } } as never, body: row as never }));

export const remove = (type: string, id: string, cascade: boolean, dryRun: boolean, accept = false) =>
  answer(
    api.DELETE(`/api/v1/${type}/{id}` as "/api/v1/users/{id}", {
      params: { path: { id }, query: { cascade, dry_run: dryRun, impact: dryRun, accept_gains: accept } },
    }),
  );

export const change = (edits: Edit[], dryRun = false, note?: string) =>
  answer(api.POST("/api/v1/changes", { params: { query: { dry_run: dryRun, impact: dryRun } }, body: { changes: edits, note } }));

export const undo = (revision: number) => answer(api.POST("/api/v1/revisions/{id}/undo", { params: { path: { id: String(revision) } } }));

export const find = (q: string) => answer(api.GET("/api/v1/find", { params: { query: { q, limit: 12 } } }));

export type Imported = components["schemas"]["Imported"];

/** sheets are the sheets that there are, each with its columns. */
export const sheets = () => answer(api.GET("/api/v1/sheets"));

/** bringIn reads a CSV file: on a dry run, to look at what it would do. */
export const bringIn = (sheet: string, text: string, dryRun: boolean, key?: string) =>
  answer(
    api.PUT("/api/v1/sheets/{id}", {
      params: { path: { id: sheet }, query: { dry_run: dryRun, impact: dryRun } },
      body: text as never,
      bodySerializer: (body) => body as unknown as string,
      headers: { "Content-Type": "text/csv", ...(key ? { "Idempotency-Key": key } : {}) },
    }),
  );

/** loadPolicy puts a document in the place of the policy: on a dry run, to compare them. seen is the revision that was compared with. */
export const loadPolicy = (text: string, dryRun: boolean, seen?: number) =>
  answer(
    api.PUT("/api/v1/policy", {
      params: { query: { dry_run: dryRun, impact: dryRun } },
      body: text as never,
      bodySerializer: (body: unknown) => body as string,
      headers: { "Content-Type": text.trimStart().startsWith("{") ? "application/json" : "application/yaml", ...(seen ? { "If-Match": `"${seen}"` } : {}) },
    } as never),
  ) as Promise<Saved>;

export type Progress = components["schemas"]["Progress"];

/** progress tells how far a request with a key is, and of one that has ended, whether it changed anything. */
export const progress = (key: string) => answer(api.GET("/api/v1/progress/{id}", { params: { path: { id: key } } }));
