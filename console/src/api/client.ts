/**
 * A thin client of the service's API. Types come from the service's own OpenAPI document (`npm run types`); failures come
 * back as problem documents (RFC 9457) or as `offline` when nobody answered.
 */
import type { components } from "./schema";

export type Schemas = components["schemas"];
export type Overview = Schemas["Overview"];
export type Device = Schemas["Device"];
export type Store = Schemas["Store"];
export type Me = Schemas["Me"];
export type OriginalCard = Schemas["OriginalCard"];
export type Original = Schemas["Original"];
export type Run = Schemas["Run"];
export type Album = Schemas["Album"];

/** Why something was not done: a sentence to show, and the stable type to decide by. */
export class Failure extends Error {
  constructor(
    /** Last part of the problem's type, or `offline`. */
    readonly kind: string,
    /** One sentence with what to do. */
    readonly detail: string,
    /** Id of the request, as in the service's log. */
    readonly request?: string,
  ) {
    super(detail);
  }
}

const offline = () => new Failure("offline", "The server does not answer. Your pictures are where they were; this page continues by itself when it is back.");

async function failureOf(response: Response): Promise<Failure> {
  const request = response.headers.get("x-request-id") ?? undefined;
  try {
    const problem = (await response.json()) as Schemas["Problem"];
    return new Failure(problem.type.split(":").pop() ?? "unknown", problem.detail, request);
  } catch {
    return new Failure("unknown", "The server's answer was not understood.", request);
  }
}

/** Asks a person for their password, and says whether it was proved. */
type Prover = () => Promise<boolean>;
let prover: Prover | undefined;

/** Has `ask` somebody when an answer wants the password again. Returns the end of that. */
export function onPasswordWanted(ask: Prover): () => void {
  prover = ask;
  return () => {
    if (prover === ask) prover = undefined;
  };
}

export async function ask<T>(path: string, method = "GET", body?: unknown, more: Record<string, string> = {}): Promise<T> {
  try {
    return await askOnce<T>(path, method, body, more);
  } catch (e) {
    // Once: what wants it again after that says so.
    if (!(e instanceof Failure && e.kind === "password-wanted" && prover && (await prover()))) throw e;
    return askOnce<T>(path, method, body, more);
  }
}

/** The bytes of a file. */
export async function askFor(path: string): Promise<Blob> {
  const response = await answered(path, {});
  try {
    return await response.blob();
  } catch {
    // It broke off.
    throw offline();
  }
}

async function answered(path: string, init: RequestInit): Promise<Response> {
  let response: Response;
  try {
    response = await fetch(path, init);
  } catch {
    throw offline();
  }
  if (!response.ok) throw await failureOf(response);
  return response;
}

async function askOnce<T>(path: string, method: string, body: unknown, more: Record<string, string>): Promise<T> {
  const response = await answered(path, {
    method,
    headers: { "x-ypogeion-console": "1", ...(body === undefined ? {} : { "content-type": "application/json" }), ...more },
    ...(body !== undefined && { body: JSON.stringify(body) }),
  });
  // Many answers say that it was done, and nothing else.
  const text = await response.text();
  return (text === "" ? undefined : JSON.parse(text)) as T;
}
