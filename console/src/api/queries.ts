// What the pages look at, and how often they look again.
import { keepPreviousData, useQueries, useQuery } from "@tanstack/react-query";
import type { TimeSpan } from "../time/spans";
import { api, good, type LogLine, type Session } from "./client";

const LIVE_MS = 2_000;

export const useSession = () =>
  useQuery({ queryKey: ["session"], queryFn: async () => good(await api.GET("/api/session")), retry: false, staleTime: Infinity });

const MANY_ENDPOINTS = 100;

/**
 * search : words in names that all must be found; of more endpoints than fit a page those that need a look, or are called most.
 * aside : on pages that are about something else it is asked for five times less often, and so are very many endpoints anywhere.
 */
export const useOverview = (search = "", aside = false) =>
  useQuery({
    queryKey: ["endpoints", "overview", search],
    queryFn: async () => good(await api.GET("/api/overview", { params: { query: search ? { search } : {} } })),
    placeholderData: keepPreviousData,
    staleTime: LIVE_MS, // what another part of the page has just asked for is not asked for again
    refetchInterval: (query) => (aside || (query.state.data?.shown.length ?? 0) > MANY_ENDPOINTS ? 5 * LIVE_MS : LIVE_MS),
  });

export const useEndpoint = (endpoint: string) =>
  useQuery({
    queryKey: ["endpoint", endpoint],
    queryFn: async () => good(await api.GET("/api/endpoints/{endpoint}", { params: { path: { endpoint } } })),
    refetchInterval: LIVE_MS,
  });

/** The tokens that called an endpoint within the last week. */
export const useCallers = (endpoint: string, enabled: boolean) =>
  useQuery({
    queryKey: ["endpoint", endpoint, "callers"],
    queryFn: async () => good(await api.GET("/api/endpoints/{endpoint}/callers", { params: { path: { endpoint } } })),
    enabled,
  });

/** Endpoints that can be given back. */
export const useDeletedEndpoints = () =>
  useQuery({
    queryKey: ["endpoints", "deleted"],
    queryFn: async () => good(await api.GET("/api/deleted-endpoints")),
    refetchInterval: 10 * LIVE_MS,
  });

/** endpoint : only the lanes of what it serves. */
export const useLanes = (endpoint?: string) =>
  useQuery({
    queryKey: ["lanes", endpoint],
    queryFn: async () => good(await api.GET("/api/lanes", { params: { query: endpoint ? { endpoint } : { limit: 200 } } })),
    refetchInterval: (query) => ((query.state.data?.lanes.length ?? 0) > MANY_ENDPOINTS ? 5 * LIVE_MS : LIVE_MS),
  });

/** This node: its records, and what holds its workers. */
export const useNode = () =>
  useQuery({
    queryKey: ["node"],
    queryFn: async () => good(await api.GET("/api/node", {})),
    refetchInterval: 5 * LIVE_MS,
  });

/** @param search words that all must be found; none finds every version */
export const useVersions = (search: string) =>
  useQuery({
    queryKey: ["versions", search],
    queryFn: async () => good(await api.GET("/api/versions", { params: { query: search ? { search } : {} } })),
    placeholderData: keepPreviousData,
    refetchInterval: 10 * LIVE_MS,
  });

/** The versions of some models, for choosing one. */
export const useModelVersions = (models: string[]) =>
  useQueries({
    queries: [...new Set(models)].map((model) => ({
      queryKey: ["versions", "of", model],
      queryFn: async () => good(await api.GET("/api/versions", { params: { query: { model } } })),
      refetchInterval: 10 * LIVE_MS,
    })),
    combine: (found) => ({ data: found.every((one) => one.data) ? found.flatMap((one) => one.data ?? []) : undefined }),
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

/** Whether whoever is signed in may do that; the service checks it again. */
export const useMay = (permission: Session["may"][number]): boolean => useSession().data?.may.includes(permission) ?? false;

export const useTrail = (subject: string, search: string) =>
  useQuery({
    queryKey: ["trail", subject, search],
    queryFn: async () =>
      good(await api.GET("/api/trail", { params: { query: { ...(subject && { subject }), ...(search && { search }), limit: 200 } } })),
    placeholderData: keepPreviousData,
    refetchInterval: 2 * LIVE_MS,
  });

/** What is sought in the log. hours : how far back. */
export type LogSearch = { level: string; hours: number; about?: string; contains?: string; request_id?: string };

/** Lines of the log of all nodes, newest first. */
export const useLogs = ({ hours, level, ...rest }: LogSearch) =>
  useQuery({
    queryKey: ["logs", hours, level, rest],
    queryFn: async () => {
      const since = new Date(Date.now() - hours * 3_600_000).toISOString();
      const found = good(
        await api.GET("/api/logs", { params: { query: { ...rest, level: level as LogLine["level"], since, limit: 1_000 } } }),
      );
      return { ...found, lines: found.lines.reverse() };
    },
    placeholderData: keepPreviousData,
    refetchInterval: 2 * LIVE_MS,
  });

export const useReviews = () =>
  useQuery({ queryKey: ["reviews"], queryFn: async () => good(await api.GET("/api/reviews")), refetchInterval: 2 * LIVE_MS });

export const useDeclared = () => useQuery({ queryKey: ["declared"], queryFn: async () => good(await api.GET("/api/declared")) });

/** A call is in the records a moment after it was answered: one that is not there yet is looked for again. */
export const useCall = (id: string) =>
  useQuery({
    queryKey: ["call", id],
    queryFn: async () => good(await api.GET("/api/calls/{request_id}", { params: { path: { request_id: id } } })),
    retry: 3,
    retryDelay: 700,
  });

export const useDrift = (endpoint: string, version: string | null, at: string | null, against: string | null) =>
  useQuery({
    queryKey: ["drift", endpoint, version, at, against],
    queryFn: async () =>
      good(
        await api.GET("/api/endpoints/{endpoint}/drift", {
          params: { path: { endpoint }, query: { ...(version && { version }), ...(at && { at }), ...(against && { against }) } },
        }),
      ),
    placeholderData: keepPreviousData,
    refetchInterval: 5 * LIVE_MS,
    retry: false,
  });

export const useFigure = (endpoint: string, figure: string, version: string | null, at: string | null) =>
  useQuery({
    queryKey: ["figure", endpoint, figure, version, at],
    queryFn: async () =>
      good(
        await api.GET("/api/endpoints/{endpoint}/drift/{figure}", {
          params: { path: { endpoint, figure }, query: { ...(version && { version }), ...(at && { at }) } },
        }),
      ),
    refetchInterval: 10 * LIVE_MS,
  });

/** hours : how far back a live page looks. fixed : a part of the time that does not move, in place of the last hours. */
export const useTraffic = (endpoint: string, hours: number, fixed: TimeSpan | null) =>
  useQuery({
    queryKey: ["traffic", endpoint, hours, fixed],
    queryFn: async () =>
      good(await api.GET("/api/endpoints/{endpoint}/traffic", { params: { path: { endpoint }, query: timeQuery(hours, fixed) } })),
    placeholderData: keepPreviousData,
    refetchInterval: fixed ? false : hours > 24 ? 30 * LIVE_MS : 3 * LIVE_MS,
  });

/** at : an outpost, of whose answers alone. */
export const useQuality = (endpoint: string, hours: number, fixed: TimeSpan | null, at?: string) =>
  useQuery({
    queryKey: ["quality", endpoint, hours, fixed, at],
    queryFn: async () => {
      const query = { ...timeQuery(hours, fixed), at };
      return good(await api.GET("/api/endpoints/{endpoint}/quality", { params: { path: { endpoint }, query } }));
    },
    placeholderData: keepPreviousData,
    refetchInterval: fixed ? false : 10 * LIVE_MS,
  });

const timeQuery = (hours: number, fixed: TimeSpan | null): { since: string; until?: string } =>
  fixed
    ? { since: new Date(fixed.since).toISOString(), until: new Date(fixed.until).toISOString() }
    : { since: new Date(Date.now() - hours * 3_600_000).toISOString() };

/** Calls that are found at once. */
export const FOUND_CALLS = 200;
export type Sought = { contains?: string; odd?: number; status?: number; slower_ms?: number; version?: string; before?: string };

export const useSoughtCalls = (endpoint: string, sought: Sought) =>
  useQuery({
    queryKey: ["calls", endpoint, sought],
    queryFn: async () => good(await api.GET("/api/calls", { params: { query: { endpoint, limit: FOUND_CALLS, ...sought } } })),
    placeholderData: keepPreviousData,
    refetchInterval: sought.before ? false : LIVE_MS,
  });

export const useAlerts = () =>
  useQuery({
    queryKey: ["alerts"],
    queryFn: async () => good(await api.GET("/api/alerts", { params: { query: { limit: 100 } } })),
    refetchInterval: 2 * LIVE_MS,
  });

export const useChannels = () =>
  useQuery({ queryKey: ["channels"], queryFn: async () => good(await api.GET("/api/channels")), refetchInterval: 5 * LIVE_MS });

export const useNotices = () =>
  useQuery({
    queryKey: ["notices"],
    queryFn: async () => good(await api.GET("/api/notices", { params: { query: { limit: 100 } } })),
    refetchInterval: 5 * LIVE_MS,
  });
