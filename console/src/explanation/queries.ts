// Explanations and curves as the service makes them; one that was made is not asked for again.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, good, type ProblemError } from "../api/client";
import type { components } from "../api/schema";

export type Explanation = components["schemas"]["ExplanationAnswer"];
export type Contribution = components["schemas"]["ContributionAnswer"];
export type SmallestChange = components["schemas"]["SmallestChangeAnswer"];
export type WithinField = components["schemas"]["WithinFieldAnswer"];
export type Curve = components["schemas"]["CurveAnswer"];

/** Whose answer is explained: a row, or a row of a recorded call. */
export type ExplainedRow = { row: Record<string, unknown>; options: Record<string, unknown> } | { call: string; at_row: number };
/** rows : that the model may be asked about. together : whether fields that move together are one. limit : that a number is to pass. */
export type ExplanationTerms = { rows: number; together: boolean; limit: number | null };

const DEFAULTS = { at_row: 0, options: {} };

/** served : what the endpoint serves, as far as that decides the answer. */
export const useExplanation = (endpoint: string, served: number, of: ExplainedRow | null, terms: ExplanationTerms) =>
  useQuery<Explanation, ProblemError>({
    queryKey: ["explanation", endpoint, served, of, terms],
    queryFn: async () =>
      good(
        await api.POST("/api/endpoints/{endpoint}/explain", {
          params: { path: { endpoint } },
          body: { ...DEFAULTS, ...of, ...terms, seconds: 5, cases: 0, wanted: ["contributions", "changes", "rule"] },
        }),
      ),
    enabled: of !== null,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    refetchOnWindowFocus: false,
    retry: false,
  });

/** The rows that were tried, to take home. */
export async function triedCases(endpoint: string, of: ExplainedRow, terms: ExplanationTerms): Promise<Explanation["cases"]> {
  const found = await api.POST("/api/endpoints/{endpoint}/explain", {
    params: { path: { endpoint } },
    body: { ...DEFAULTS, ...of, ...terms, seconds: 5, cases: 2_000, wanted: ["contributions", "changes", "rule"] },
  });
  return good(found).cases;
}

export const useCurve = (endpoint: string, served: number, of: ExplainedRow | null, field: string | null) =>
  useQuery<Curve, ProblemError>({
    queryKey: ["curve", endpoint, served, of, field],
    queryFn: async () =>
      good(
        await api.POST("/api/endpoints/{endpoint}/explain/curve", {
          params: { path: { endpoint } },
          body: { ...DEFAULTS, ...of, field: field ?? "", rows: 200 },
        }),
      ),
    enabled: of !== null && field !== null,
    placeholderData: keepPreviousData,
    staleTime: Infinity,
    refetchOnWindowFocus: false,
    retry: false,
  });
