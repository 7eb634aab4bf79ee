// The one way to the service. Types come from its OpenAPI document.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Endpoint = components["schemas"]["EndpointShape"];
export type EndpointPage = components["schemas"]["EndpointPage"];
export type Field = components["schemas"]["FieldShape"];
export type Call = components["schemas"]["CallShape"];
export type Version = components["schemas"]["VersionShape"];
export type VersionPage = components["schemas"]["VersionPage"];
export type Comparison = components["schemas"]["Comparison"];
export type Profile = components["schemas"]["Profile"];
export type Token = components["schemas"]["TokenShape"];
export type MadeToken = components["schemas"]["MadeToken"];
export type Session = components["schemas"]["Session"];

export const api = createClient<paths>();

/** One wrong value of a request, as the service names it. */
export type Fault = { row?: number; field?: string; given?: string; expected: string; hint?: string };

/** A problem document (RFC 9457) as an error. */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    readonly title: string,
    detail: string,
    readonly faults: Fault[] = [],
  ) {
    super(detail);
  }

  static of(status: number, body: unknown): ProblemError {
    const said = (typeof body === "object" && body !== null ? body : {}) as Partial<Record<string, unknown>>;
    const detail = typeof said.detail === "string" ? said.detail : `the service answered with status ${status}`;
    const title = typeof said.title === "string" ? said.title : "Something went wrong";
    return new ProblemError(status, title, detail, Array.isArray(said.faults) ? (said.faults as Fault[]) : []);
  }
}

/** The data of a good answer; throws the problem of any other. */
export function good<T>(result: { data?: T; error?: unknown; response: Response }): T {
  if (!result.response.ok) throw ProblemError.of(result.response.status, result.error);
  return result.data as T;
}

export type Value = string | number | boolean | null;
export type Row = Record<string, Value>;

/** An answer with what the service said about itself. */
export type Answered = {
  answer: Record<string, unknown>;
  version: string;
  requestId: string;
  timing: Record<string, number>;
};

/** Ask an endpoint for one row. The body is written by us, so that numbers stand as they were typed. */
export async function predict(endpoint: string, body: string): Promise<Answered> {
  const response = await fetch(`/predict/${encodeURIComponent(endpoint)}`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body,
  });
  const said = (await response.json().catch(() => null)) as Record<string, unknown> | null;
  if (!response.ok || said === null) throw ProblemError.of(response.status, said);
  return {
    answer: said.answer as Record<string, unknown>,
    version: String(said.version),
    requestId: String(said.request_id),
    timing: readTiming(response.headers.get("server-timing") ?? ""),
  };
}

function readTiming(header: string): Record<string, number> {
  const out: Record<string, number> = {};
  for (const part of header.split(",")) {
    const [name, duration] = part.trim().split(";dur=");
    if (name && duration) out[name] = Number(duration);
  }
  return out;
}
