// What the pages look at, and how often they look again.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, good } from "./client";

const LIVE_MS = 2_000;

export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: async () => good(await api.GET("/api/session")), retry: false, staleTime: Infinity });

export const useEndpoints = () =>
  useQuery({ queryKey: ["endpoints"], queryFn: async () => good(await api.GET("/api/endpoints")), refetchInterval: LIVE_MS });

export const useEndpoint = (endpoint: string) =>
  useQuery({
    queryKey: ["endpoint", endpoint],
    queryFn: async () => good(await api.GET("/api/endpoints/{endpoint}", { params: { path: { endpoint } } })),
    refetchInterval: LIVE_MS,
  });

export const useLanes = () =>
  useQuery({
    queryKey: ["lanes"],
    queryFn: async () => good(await api.GET("/api/lanes")),
    refetchInterval: 1_000,
  });

/** @param search words that all must be found; none finds every version */
export const useVersions = (search: string) =>
  useQuery({
    queryKey: ["versions", search],
    queryFn: async () => good(await api.GET("/api/versions", { params: { query: search ? { search } : {} } })),
    placeholderData: keepPreviousData,
    refetchInterval: 2 * LIVE_MS,
  });

export const useComparison = (before: string, after: string) =>
  useQuery({
    queryKey: ["compare", before, after],
    queryFn: async () => good(await api.GET("/api/compare", { params: { query: { before, after } } })),
    placeholderData: keepPreviousData,
    retry: false,
  });

export const useVersion = (model: string, number: number) =>
  useQuery({
    queryKey: ["version", model, number],
    queryFn: async () => good(await api.GET("/api/models/{model}/versions/{number}", { params: { path: { model, number } } })),
    refetchInterval: 5 * LIVE_MS,
  });

export const useTokens = () =>
  useQuery({ queryKey: ["tokens"], queryFn: async () => good(await api.GET("/api/tokens")), refetchInterval: 5 * LIVE_MS, retry: false });

export const useCalls = (endpoint: string) =>
  useQuery({
    queryKey: ["calls", endpoint],
    queryFn: async () => good(await api.GET("/api/calls", { params: { query: { endpoint, limit: 20 } } })),
    refetchInterval: LIVE_MS,
  });

const MAY: Record<string, readonly string[]> = { point: ["operator", "admin"], review: ["reviewer", "admin"] };

/** Whether whoever is signed in may do that; the service checks it again. */
export function useMay(what: "point" | "review"): boolean {
  const session = useSession();
  return MAY[what]!.includes(session.data?.role ?? "");
}

export const useTrail = (subject: string, search: string) =>
  useQuery({
    queryKey: ["trail", subject, search],
    queryFn: async () => good(await api.GET("/api/trail", { params: { query: { ...(subject && { subject }), ...(search && { search }), limit: 200 } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 2 * LIVE_MS,
  });

export const useReviews = () =>
  useQuery({ queryKey: ["reviews"], queryFn: async () => good(await api.GET("/api/reviews")), refetchInterval: 2 * LIVE_MS });

export const useStated = () => useQuery({ queryKey: ["state"], queryFn: async () => good(await api.GET("/api/state")) });

/** A call is in the records a moment after it was answered: one that is not there yet is looked for again. */
export const useCall = (id: string) =>
  useQuery({ queryKey: ["call", id], queryFn: async () => good(await api.GET("/api/calls/{request_id}", { params: { path: { request_id: id } } })), retry: 3, retryDelay: 700 });
