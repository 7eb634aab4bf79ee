// What is asked of the service about bulk runs.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, BASE, good, ProblemError } from "../api/client";
import type { components } from "../api/schema";

export type Run = components["schemas"]["BulkRunAnswer"];
export type RunDetail = components["schemas"]["BulkRunDetailAnswer"];
export type Order = components["schemas"]["BulkStartRequest"];
export type Check = components["schemas"]["BulkCheckAnswer"];
export type Upload = components["schemas"]["UploadAnswer"];

const LIVE_MS = 1_000;
const QUIET_MS = 10_000;
const PIECE_BYTES = 4 * 2 ** 20;

export const isGoing = (run: Run): boolean => run.ended_at === null;

export const useRuns = () =>
  useQuery({
    queryKey: ["bulk"],
    queryFn: async () => good(await api.GET("/api/bulk", { params: { query: { limit: 200 } } })),
    refetchInterval: (query) => (query.state.data?.some(isGoing) ? LIVE_MS : QUIET_MS),
  });

/** How far a run is; asked for every second while it goes on. */
export const useRunProgress = (run: string) =>
  useQuery({
    queryKey: ["bulk", run, "progress"],
    queryFn: async () => good(await api.GET("/api/bulk/{run}/progress", { params: { path: { run } } })),
    refetchInterval: (query) => (query.state.data && isGoing(query.state.data) ? LIVE_MS : false),
  });

/** Its answers and how its rows differ, which takes the service longer. rows : when there are more, it is asked for again. */
export const useRun = (run: string, rows: number, state: string | undefined) =>
  useQuery({
    queryKey: ["bulk", run, "detail", state, Math.floor(Math.log2(rows + 1))],
    queryFn: async () => good(await api.GET("/api/bulk/{run}", { params: { path: { run } } })),
    placeholderData: keepPreviousData,
    enabled: state !== undefined,
  });

export const usePlaces = (enabled: boolean) =>
  useQuery({
    queryKey: ["bulk", "places"],
    queryFn: async () => good(await api.GET("/api/bulk/places")),
    enabled,
    staleTime: Infinity,
  });

export const outputAddress = (run: string, what: "output" | "rejects"): string => `${BASE}/api/bulk/${encodeURIComponent(run)}/${what}`;

/** Bring a file to the service piece by piece. told : how much of it is there, 0 to 1. */
export async function bringFile(file: File, told: (part: number) => void): Promise<string> {
  const upload = good(await api.POST("/api/uploads", { body: { file_name: file.name } }));
  for (let at = 0; at < file.size; at += PIECE_BYTES) {
    const response = await fetch(`${BASE}/api/uploads/${upload.id}?at=${at}`, {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream" },
      body: file.slice(at, at + PIECE_BYTES),
    });
    if (!response.ok) throw ProblemError.of(response.status, await response.json().catch(() => null));
    told(Math.min(1, (at + PIECE_BYTES) / file.size));
  }
  return upload.source;
}
