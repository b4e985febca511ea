import { answer, api } from "./client";
import type { components } from "./schema.gen";

type Schemas = components["schemas"];
export type Machines = Schemas["Machines"];
export type Machine = Schemas["Machine"];

const of = (id: string) => ({ path: { id } });

export const machines = () => answer(api.GET("/api/v1/machines"));
export const admitMachine = (id: string, key: string) => answer(api.PUT("/api/v1/machines/{id}", { params: of(id), body: { key } }));
export const promoteMachine = (id: string) => answer(api.POST("/api/v1/machines/{id}/promote", { params: of(id) }));
export const dropMachine = (id: string) => answer(api.DELETE("/api/v1/machines/{id}", { params: of(id) }));
