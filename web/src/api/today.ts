import { answer, api } from "./client";
import type { Listed } from "./records";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Today = Schemas["Today"];
export type Ending = Schemas["Ending"];
export type Happened = Schemas["Happened"];

/** today is the first look. */
export const today = () => answer(api.GET("/api/v1/today"));

/** historyOf lists the last revisions that changed a record. */
export const historyOf = (type: Listed, id: string) => answer(api.GET("/api/v1/history/{type}/{id}", { params: { path: { type, id } } }));
