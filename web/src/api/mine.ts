import { answer, api } from "./client";
import type { Edit } from "./edits";
import type { components } from "./schema.gen";

export type Mine = components["schemas"]["Mine"];
export type Request = components["schemas"]["Request"];

export const mine = () => answer(api.GET("/api/v1/mine"));
export const giveBack = (what: { group?: string; grant?: string }, note?: string) => answer(api.POST("/api/v1/mine/give-back", { body: { ...what, note } }));
export const joinGroup = (group: string, minutes: number, reason: string) => answer(api.POST("/api/v1/mine/join", { body: { group, minutes, reason } }));
export const askFor = (right: string, device: string, until: string, reason: string) =>
  answer(api.POST("/api/v1/requests", { body: { right, device, until, reason } }));
export const withdraw = (id: string) => answer(api.DELETE("/api/v1/requests/{id}", { params: { path: { id } } }));
export const requests = () => answer(api.GET("/api/v1/requests"));
export const answerRequest = (id: string, agree: boolean, edits: Edit[] | undefined, note: string | undefined) =>
  answer(api.POST("/api/v1/requests/{id}/answer", { params: { path: { id } }, body: { agree, edits, note } }));
