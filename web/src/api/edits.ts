import { answer, api } from "./client";
import type { Type } from "./records";
import type { Records } from "./records.gen";
import type { components } from "./schema.gen";

export type Saved = components["schemas"]["Saved"];
export type Change = components["schemas"]["RecordChange"];
export type Edit = components["schemas"]["Edit"];
export type Unmet = components["schemas"]["Unmet"];

/** Why is why a change is made, and which expectations it is made in spite of. */
export type Why = { note?: string; override?: string[] };

/** looking is how a change is asked for: on a dry run, to look at what it would do. */
export const looking = (dryRun: boolean, why: Why = {}) => ({ dry_run: dryRun, impact: dryRun, ...why });

/** patched is an edit that changes some fields of a record: those that are null are taken away. */
export const patched = <T extends Type>(type: T, id: string, record: Patch<T>): Edit => ({ op: "patch", type, id, record });

type Patch<T extends Type> = { [K in keyof Records[T]]?: Records[T][K] | null };

export const change = (edits: Edit[], dryRun = false, why?: Why) =>
  answer(api.POST("/api/v1/changes", { params: { query: looking(dryRun, why) }, body: { changes: edits } }));

/** undo takes back what revisions did: on a dry run, to look at what that would change. */
export const undo = (revisions: number[], dryRun = false, why?: Why) =>
  answer(api.POST("/api/v1/undo", { params: { query: looking(dryRun, why) }, body: { revisions } }));

/** prove tells which expectations of the policy hold. */
export const prove = () => answer(api.GET("/api/v1/proof"));

export const find = (q: string) => answer(api.GET("/api/v1/find", { params: { query: { q, limit: 12 } } }));

export type Imported = components["schemas"]["Imported"];

/** sheets are the sheets that there are, each with its columns. */
export const sheets = () => answer(api.GET("/api/v1/sheets"));

/** bringIn reads a CSV file: on a dry run, to look at what it would do. */
export const bringIn = (sheet: string, text: string, dryRun: boolean, key?: string, why?: Why) =>
  answer(
    api.PUT("/api/v1/sheets/{id}", {
      params: { path: { id: sheet }, query: looking(dryRun, why) },
      body: text as never,
      bodySerializer: (body) => body as unknown as string,
      headers: { "Content-Type": "text/csv", ...(key ? { "Idempotency-Key": key } : {}) },
    }),
  );

/** loadPolicy puts a document in the place of the policy: on a dry run, to compare them. seen is the revision that was compared with. */
export const loadPolicy = (text: string, dryRun: boolean, seen?: number, why?: Why) =>
  answer(
    api.PUT("/api/v1/policy", {
      params: { query: looking(dryRun, why) },
      body: text as never,
      bodySerializer: (body: unknown) => body as string,
      headers: { "Content-Type": text.trimStart().startsWith("{") ? "application/json" : "application/yaml", ...(seen ? { "If-Match": `"${seen}"` } : {}) },
    } as never),
  ) as Promise<Saved>;

export type Progress = components["schemas"]["Progress"];

/** progress tells how far a request with a key is, and of one that has ended, whether it changed anything. */
export const progress = (key: string) => answer(api.GET("/api/v1/progress/{id}", { params: { path: { id: key } } }));
