import { batched } from "./batched";
import { answer, api } from "./client";
import type { Type } from "./records";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Reach = Schemas["Reach"];
export type Reached = Schemas["Reached"];
export type Held = Schemas["Held"];
export type Seen = Schemas["Seen"];
export type Use = Schemas["Use"];
export type Matrix = Schemas["Matrix"];
export type MatrixQuestion = Schemas["MatrixQuestion"];
export type Cell = Schemas["Cell"];
export type Week = Schemas["Week"];
export type WeekQuestion = Schemas["WeekQuestion"];
export type Day = Schemas["Day"];
export type Stretch = Schemas["Stretch"];
export type Fortnight = Schemas["Fortnight"];
export type Advice = Schemas["Advice"];
export type Advise = Schemas["Advise"];
export type AdviceQuestion = Schemas["AdviceQuestion"];
export type Impact = Schemas["Impact"];
export type PossibleRight = Schemas["PossibleRight"];
export type Belongs = Schemas["Belongs"];

export type ReachQuery = Schemas["Context"] & {
  at?: string;
  degree?: ("now" | "later" | "if")[];
  right?: string;
  limit?: number;
  cursor?: string;
  point?: string;
};

/** reach reads a page of what is reached from a user or group, or of who reaches a device. */
export const reach = (type: Type, id: string, query: ReachQuery) =>
  answer(api.GET(`/api/v1/reach/${type}/{id}` as "/api/v1/reach/devices/{id}", { params: { path: { id }, query } }));
/** holdersOf tells how many have which right on a device. */
export const holdersOf = batched(100, async (id) => {
  const found = await answer(api.GET("/api/v1/reach/devices", { params: { query: { id } } }));
  return new Map(found.map((h) => [h.id, h]));
});
export const seen = (id: string, query: ReachQuery) => answer(api.GET("/api/v1/seen/{id}", { params: { path: { id }, query } }));
export const uses = (type: Type, id: string) => answer(api.GET("/api/v1/uses/{type}/{id}", { params: { path: { type, id } } }));
/** groupsOf lists the groups that a user or a device is in, and why. */
export const groupsOf = (type: "users" | "devices", id: string) => answer(api.GET("/api/v1/groups/{type}/{id}", { params: { path: { type, id } } }));
export const matrix = (body: MatrixQuestion) => answer(api.POST("/api/v1/matrix", { body }));
export const week = (body: WeekQuestion) => answer(api.POST("/api/v1/week", { body }));
export const advice = (body: AdviceQuestion) => answer(api.POST("/api/v1/advice", { body }));
export const previewSchedule = (schedule: Schemas["Schedule"], zone: string) =>
  answer(api.POST("/api/v1/preview/schedule", { body: { schedule, zone: zone || undefined } }));
export const previewMatch = (match: Schemas["Match"]) => answer(api.POST("/api/v1/preview/match", { body: match }));

/** Clock says whose clock a time is read by. */
export type Clock = { device?: string; site?: string; zone?: string };

/** readTime reads a time in words, by a clock; without a text, it tells the zone alone. */
export const readTime = (body: Clock & { text?: string }) => answer(api.POST("/api/v1/time", { body }));
