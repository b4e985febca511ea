import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Feed = Schemas["Feed"];
export type NewFeed = Schemas["NewFeed"];

export const feeds = () => answer(api.GET("/api/v1/feeds"));
export const newFeed = (body: NewFeed) => answer(api.POST("/api/v1/feeds", { body }));
export const dropFeed = (id: string) => answer(api.DELETE("/api/v1/feeds/{id}", { params: { path: { id } } }));
