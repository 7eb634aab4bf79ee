// The one way to the service. Types come from its OpenAPI document.
import createClient from "openapi-fetch";
import type { components, paths } from "./schema";

export type Setup = components["schemas"]["EndpointSetup"];
export type LanesPage = components["schemas"]["LanesAnswer"];
export type Lane = components["schemas"]["LaneStateAnswer"];
export type LaneRules = components["schemas"]["LaneRules"];
export type Endpoint = components["schemas"]["EndpointAnswer"];
export type Overview = components["schemas"]["OverviewAnswer"];
export type EndpointPage = components["schemas"]["EndpointDetailAnswer"];
export type DeletedEndpoint = components["schemas"]["DeletedEndpointAnswer"];
export type Field = components["schemas"]["FieldAnswer"];
export type Call = components["schemas"]["CallAnswer"];
export type Version = components["schemas"]["VersionAnswer"];
export type VersionPage = components["schemas"]["VersionDetailAnswer"];
export type Insight = components["schemas"]["ModelInsight"];
export type Comparison = components["schemas"]["ComparisonAnswer"];
export type Profile = components["schemas"]["FeatureProfile"];
export type Token = components["schemas"]["TokenAnswer"];
export type MadeToken = components["schemas"]["NewTokenAnswer"];
export type Rotation = components["schemas"]["RotationAnswer"];
export type LogLine = components["schemas"]["LogLineAnswer"];
export type Session = components["schemas"]["SessionAnswer"];

export type Rollout = components["schemas"]["RolloutAnswer"];
export type Reading = components["schemas"]["GuardReadingAnswer"];
export type Review = components["schemas"]["ReviewAnswer"];
export type Entry = components["schemas"]["TrailEntryAnswer"];
export type CallPage = components["schemas"]["CallDetailAnswer"];
export type Agreement = components["schemas"]["AgreementAnswer"];

export type DriftPage = components["schemas"]["DriftAnswer"];
export type Figure = components["schemas"]["FeatureDriftAnswer"];
export type CellsPage = components["schemas"]["FeatureBinsAnswer"];
export type WindowOfDrift = components["schemas"]["WindowAnswer"];
export type TrafficPage = components["schemas"]["TrafficAnswer"];
export type Moment = components["schemas"]["TrafficStep"];
export type QualityPage = components["schemas"]["QualityAnswer"];
export type VersionQuality = components["schemas"]["VersionQuality"];
export type QualityFigure = components["schemas"]["EstimateAnswer"];
export type Alert = components["schemas"]["AlertAnswer"];
export type Notice = components["schemas"]["NoticeAnswer"];
export type Channel = components["schemas"]["ChannelAnswer"];

/** Where the service stands, as the page says: empty, or the path before every address, without a slash at its end. */
export const BASE = new URL(document.baseURI).pathname.replace(/\/$/, "");

export const api = createClient<paths>({ baseUrl: BASE });

/** One wrong value of a request, as the service names it. */
export type Fault = components["schemas"]["FaultAnswer"];

/** A problem document (RFC 9457) as an error. */
export class ProblemError extends Error {
  constructor(
    readonly status: number,
    readonly type: string,
    readonly title: string,
    detail: string,
    readonly extras: Record<string, unknown> = {},
  ) {
    super(detail);
  }

  /** Everything that is wrong with the rows of a request. */
  get faults(): Fault[] {
    return Array.isArray(this.extras.faults) ? (this.extras.faults as Fault[]) : [];
  }

  static of(status: number, body: unknown): ProblemError {
    const { type, title, detail, ...extras } = (typeof body === "object" && body !== null ? body : {}) as Record<string, unknown>;
    delete extras.status;
    return new ProblemError(
      status,
      typeof type === "string" ? type : "about:blank",
      typeof title === "string" ? title : "Something went wrong",
      typeof detail === "string" ? detail : `the service answered with status ${status}`,
      extras,
    );
  }
}

/** The problem type of a change that would refuse requests which callers sent of late. */
export const BREAKS_CALLERS = "urn:lamppost:breaks-callers";

/** The data of a good answer; throws the problem of any other. */
export function good<T>(result: { data?: T; error?: unknown; response: Response }): T {
  if (!result.response.ok) throw ProblemError.of(result.response.status, result.error);
  return result.data as T;
}

export type Value = string | number | boolean | null;
export type Row = Record<string, Value>;

/** An answer with what the service said about itself. answer : of the first row. */
export type Answered = {
  answer: Record<string, unknown>;
  answers: Record<string, unknown>[];
  version: string;
  requestId: string;
  timing: Record<string, number>;
  changed: Changed[];
};

/** A value that a lenient endpoint took as another one. */
export type Changed = components["schemas"]["CoercionAnswer"];
type Prediction = components["schemas"]["PredictionAnswer"];

/** Ask an endpoint for one row. The body is written by us, so that numbers stand as they were typed. */
export async function predict(endpoint: string, body: string, headers: Record<string, string> = {}): Promise<Answered> {
  const response = await fetch(`${BASE}/predict/${encodeURIComponent(endpoint)}`, {
    method: "POST",
    headers: { ...headers, "Content-Type": "application/json" },
    body,
  });
  const received: unknown = await response.json().catch(() => null);
  if (!response.ok || received === null) throw ProblemError.of(response.status, received);
  const prediction = received as Prediction;
  const answers = answersOf(prediction);
  return {
    answer: answers[0] ?? {},
    answers,
    version: prediction.version,
    requestId: prediction.request_id,
    timing: readTiming(response.headers.get("server-timing") ?? ""),
    changed: prediction.changed ?? [],
  };
}

/** Answers to one row, to rows, or to columns. */
function answersOf(prediction: Prediction): Record<string, unknown>[] {
  if (prediction.answer) return [prediction.answer];
  if (prediction.answers) return prediction.answers;
  const columns = Object.entries((prediction.columns ?? {}) as Record<string, unknown[] | Record<string, unknown[]>>);
  const rows = Math.max(0, ...columns.map(([, column]) => (Array.isArray(column) ? column : Object.values(column)[0]!).length));
  return Array.from({ length: rows }, (_, at) =>
    Object.fromEntries(
      columns.map(([name, column]) => [
        name,
        Array.isArray(column) ? column[at] : Object.fromEntries(Object.entries(column).map(([key, values]) => [key, values[at]])),
      ]),
    ),
  );
}

export type VersionPrediction = components["schemas"]["VersionPredictionAnswer"];

/** What any version says to the same body, served or not. */
export async function askVersion(model: string, number: number, body: string): Promise<VersionPrediction> {
  const response = await fetch(`${BASE}/api/models/${encodeURIComponent(model)}/versions/${number}/ask`, {
    method: "POST",
    headers: { "Content-Type": "application/json" },
    body,
  });
  const answer: unknown = await response.json().catch(() => null);
  if (!response.ok) throw ProblemError.of(response.status, answer);
  return answer as VersionPrediction;
}

function readTiming(header: string): Record<string, number> {
  const out: Record<string, number> = {};
  for (const part of header.split(",")) {
    const [name, duration] = part.trim().split(";dur=");
    if (name && duration) out[name] = Number(duration);
  }
  return out;
}
