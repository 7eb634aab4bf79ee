// What is asked of the service about sweeps.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, BASE, good } from "../api/client";
import type { components } from "../api/schema";

export type Sweep = components["schemas"]["SweepAnswer"];
export type SweepDetail = components["schemas"]["SweepDetailAnswer"];
export type Setting = components["schemas"]["SettingAnswer"];
export type Goal = components["schemas"]["SweepPickAnswer"]["goal"];
/** limits : as text, such as "p99=50ms"; null for the sweep's own. */
export type Wanted = { limits: string[] | null; goal: Goal | null };

const LIVE_MS = 1_000;
const QUIET_MS = 10_000;

export const isGoing = (sweep: Sweep): boolean => sweep.ended_at === null;

export const useSweeps = () =>
  useQuery({
    queryKey: ["sweeps"],
    queryFn: async () => good(await api.GET("/api/sweeps", { params: { query: { limit: 100 } } })),
    refetchInterval: (query) => (query.state.data?.some(isGoing) ? LIVE_MS : QUIET_MS),
  });

/** An empty limit says that there is none, which leaving it out does not. */
const asked = ({ limits, goal }: Wanted) => ({
  ...(limits && { limit: limits.length ? limits : [""] }),
  ...(goal && { goal }),
});

export const useSweep = (name: string, wanted: Wanted) =>
  useQuery({
    queryKey: ["sweeps", name, wanted],
    queryFn: async () => good(await api.GET("/api/sweeps/{name}", { params: { path: { name }, query: asked(wanted) } })),
    placeholderData: keepPreviousData,
    refetchInterval: (query) => (query.state.data && isGoing(query.state.data) ? LIVE_MS : false),
  });

export function reportAddress(name: string, form: "html" | "pdf", { limits, goal }: Wanted): string {
  const query = new URLSearchParams({ form, ...(goal && { goal }) });
  for (const limit of limits ?? []) query.append("limit", limit);
  return `${BASE}/api/sweeps/${encodeURIComponent(name)}/report?${query.toString()}`;
}
