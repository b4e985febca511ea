import createClient from "openapi-fetch";
import { base } from "../base";
import { asOf, inDraft, intoDraft, ofThePast } from "../session/as-of";
import { setClock } from "../session/clock";
import { takeStanding } from "../session/following";
import { language } from "../session/language";
import { labelOf, t } from "../words";
import type { components, paths } from "./schema.gen";

type Schemas = components["schemas"];
export type Answer = Schemas["Answer"];
export type Trail = Schemas["Trail"];
export type Stop = Schemas["Stop"];
export type Session = Schemas["Session"];
export type Problem = Schemas["Problem"];
export type Check = Schemas["Check"];

export const api = createClient<paths>({ baseUrl: base, headers: { "Accept-Language": language() } });

api.use({
  async onRequest({ request, schemaPath }) {
    const url = new URL(request.url);
    if (ofThePast(request.method, schemaPath)) url.searchParams.set("as_of", asOf);
    else if (intoDraft(request.method, schemaPath)) url.searchParams.set("draft", inDraft);
    else return undefined;
    const { method, headers, signal } = request;
    return new Request(url, { method, headers, signal, body: method === "GET" ? undefined : await request.text() });
  },
  onResponse({ response }) {
    takeStanding(response.headers);
  },
});

/** sentence begins what the service says as a line of its own begins. */
const sentence = (text?: string) => text && text.charAt(0).toUpperCase() + text.slice(1);

/** ApiError is what the service said no to: its status and its problem. */
export class ApiError extends Error {
  constructor(
    readonly status: number,
    readonly problem?: Problem,
  ) {
    const faults = problem?.faults?.map(faultText).join("\n");
    super(faults ?? sentence(problem?.detail) ?? `HTTP ${status}`);
  }
}

/** reasonOf is why something was not done: as the service says it, or, where it has said nothing, otherwise. */
export function reasonOf(error: unknown, otherwise: string) {
  return error instanceof ApiError ? error.message : otherwise;
}

/** faultText says a fault as people read it: in which line of a file, of which field, and what is wrong. */
export function faultText(f: Schemas["Fault"]) {
  const field = labelOf(/([a-z_]+)(\[\d+\])*$/.exec(f.path)?.[1] ?? "");
  const line = f.line && f.line > 1 ? t("console.fault_line", { line: f.line }) : "";
  return [line, field].filter(Boolean).join(", ") + (line || field ? t("console.colon") : "") + f.problem;
}

/** problemOf is what the service says is wrong, without where it stands: the field beside it is known. */
export function problemOf(error: unknown) {
  if (!(error instanceof ApiError)) return t("console.unreachable");
  return error.problem?.faults?.map((f) => f.problem).join(" ") ?? error.message;
}

type Result<T> = { data?: T; error?: unknown; response: Response };

/** answer unwraps an answer, or throws what the service refused. */
export async function answer<T>(call: Promise<Result<T>>): Promise<T> {
  const { data, error, response } = await call;
  if (!response.ok) throw new ApiError(response.status, error as Problem | undefined);
  return data as T;
}

export const signIn = (user: string, password: string, code?: string) => answer(api.POST("/api/v1/session", { body: { user, password, code } }));

export const signIns = (id: string) => answer(api.GET("/api/v1/users/{id}/sign-ins", { params: { path: { id } } }));
export const endSessionsOf = (id: string) => answer(api.DELETE("/api/v1/users/{id}/sessions", { params: { path: { id } } }));
export const revokeToken = (id: string) => answer(api.DELETE("/api/v1/tokens/{id}", { params: { path: { id } } }));
export type NewToken = Schemas["NewToken"];
export const createToken = (body: NewToken) => answer(api.POST("/api/v1/tokens", { body }));
export const rotateToken = (id: string) => answer(api.POST("/api/v1/tokens/{id}/rotation", { params: { path: { id } }, body: {} }));
export const needsSetUp = async () => (await answer(api.GET("/api/v1/set-up"))).needed;
export const setUp = (code: string, name: string, password: string) => answer(api.POST("/api/v1/set-up", { body: { code, name, password } }));

export type Enrolling = Schemas["Enrolling"];
export const factors = () => answer(api.GET("/api/v1/session/factors"));
export const beginFactor = (password?: string) => answer(api.POST("/api/v1/session/factors", { body: { password } }));
export const confirmFactor = (code: string, name: string) => answer(api.POST("/api/v1/session/factors/confirm", { body: { code, name } }));
export type Ceremony = Schemas["Ceremony"];
export const beginPasskey = (password?: string) => answer(api.POST("/api/v1/session/passkeys", { body: { password } }));
export const confirmPasskey = (id: string, name: string, credential: string) =>
  answer(api.POST("/api/v1/session/passkeys/confirm", { body: { id, name, credential } }));
export const beginPasskeySignIn = () => answer(api.POST("/api/v1/session/passkey"));
export const signInByPasskey = (id: string, credential: string) => answer(api.POST("/api/v1/session/passkey/sign-in", { body: { id, credential } }));
export const dropFactor = (id: string, password: string) =>
  answer(api.POST("/api/v1/session/factors/{id}/removal", { params: { path: { id } }, body: { password } }));
export const newRecoveryCodes = (password: string) => answer(api.POST("/api/v1/session/recovery-codes", { body: { password } }));
export const resetFactors = (id: string) => answer(api.DELETE("/api/v1/users/{id}/factors", { params: { path: { id } } }));
export const signOut = () => answer(api.DELETE("/api/v1/session"));
export const session = async () => {
  const who = await answer(api.GET("/api/v1/session"));
  setClock(who.now);
  return who;
};
export const check = (body: Check) => answer(api.POST("/api/v1/check", { body }));
export const sessions = () => answer(api.GET("/api/v1/sessions"));
export const endSession = (id: string) => answer(api.DELETE("/api/v1/sessions/{id}", { params: { path: { id } } }));
export const endOtherSessions = () => answer(api.DELETE("/api/v1/sessions"));
export const changePassword = (current: string, password: string) => answer(api.PUT("/api/v1/session/password", { body: { current, password } }));
export const welcome = (link: string, password: string) => answer(api.POST("/api/v1/welcome", { body: { link, password } }));
export const invite = (id: string) => answer(api.POST("/api/v1/users/{id}/invitation", { params: { path: { id } } }));

export type Preferences = Schemas["Preferences"];
export const preferences = () => answer(api.GET("/api/v1/session/preferences"));
export const setPreferences = (body: Preferences) => answer(api.PUT("/api/v1/session/preferences", { body }));

/** hear asks how the machine stands that answers: it costs nothing, and counts as no use of the session. */
export const hear = () => answer(api.GET("/healthz"));

export const counts = () => answer(api.GET("/api/v1/counts"));
