import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Review = Schemas["Review"];
export type ReviewHead = Schemas["ReviewHead"];
export type ReviewItem = Schemas["ReviewItem"];
export type Term = Schemas["Term"];
export type ReviewAnswer = Schemas["ReviewAnswer"];

const of = (id: string) => ({ path: { id } });

export const reviews = (all: boolean) => answer(api.GET("/api/v1/reviews", { params: { query: { all } } }));
export const getReview = (id: string) => answer(api.GET("/api/v1/reviews/{id}", { params: of(id) }));
export const newReview = (body: Schemas["NewReview"]) => answer(api.POST("/api/v1/reviews", { body }));
export const answerReview = (id: string, answers: ReviewAnswer[], dryRun = false) =>
  answer(api.POST("/api/v1/reviews/{id}/answers", { params: { ...of(id), query: { dry_run: dryRun } }, body: { answers } }));
export const stopReview = (id: string) => answer(api.DELETE("/api/v1/reviews/{id}", { params: of(id) }));
