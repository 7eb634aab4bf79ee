// What is asked of the service at a desk. Its addresses are the only ones that the session of a link opens.
import { keepPreviousData, useQuery } from "@tanstack/react-query";
import { api, BASE, good, ProblemError } from "../api/client";
import type { components } from "../api/schema";

export type DeskPage = components["schemas"]["DeskPageAnswer"];
export type Reply = components["schemas"]["DeskReplyAnswer"];
export type Reason = components["schemas"]["DeskReasonAnswer"];
export type Match = components["schemas"]["DeskMatchAnswer"];
export type Result = components["schemas"]["DeskResultAnswer"];
export type ResultRow = components["schemas"]["DeskRowAnswer"];
export type ResultRows = components["schemas"]["DeskRowsAnswer"];
export type State = Reply["state"];

const LIVE_MS = 1_000;
const PIECE_BYTES = 4 * 2 ** 20;

export const isUnderWay = (result: Result): boolean => result.ended_at === null;

export const useDesk = (endpoint: string) =>
  useQuery({
    queryKey: ["desk", endpoint],
    queryFn: async () => good(await api.GET("/api/desk/{endpoint}", { params: { path: { endpoint } } })),
    retry: false,
  });

export const useResults = (endpoint: string) =>
  useQuery({
    queryKey: ["desk", endpoint, "results"],
    queryFn: async () => good(await api.GET("/api/desk/{endpoint}/results", { params: { path: { endpoint } } })),
  });

export const useResult = (endpoint: string, name: string) =>
  useQuery({
    queryKey: ["desk", endpoint, "results", name],
    queryFn: async () => good(await api.GET("/api/desk/{endpoint}/results/{name}", { params: { path: { endpoint, name } } })),
    refetchInterval: (query) => (query.state.data && isUnderWay(query.state.data) ? LIVE_MS : false),
  });

export type Page = { answer: string | null; search: string; sort: string | null; at: number };

export const useRows = (endpoint: string, name: string, page: Page, limit: number) =>
  useQuery({
    queryKey: ["desk", endpoint, "results", name, "rows", page, limit],
    queryFn: async () =>
      good(
        await api.GET("/api/desk/{endpoint}/results/{name}/rows", {
          params: {
            path: { endpoint, name },
            query: {
              search: page.search,
              at: page.at,
              limit,
              ...(page.answer ? { answer: page.answer } : {}),
              ...(page.sort ? { sort: page.sort } : {}),
            },
          },
        }),
      ),
    placeholderData: keepPreviousData,
  });

export const fileAddress = (endpoint: string, name: string, form: "csv" | "xlsx"): string =>
  `${BASE}/api/desk/${encodeURIComponent(endpoint)}/results/${encodeURIComponent(name)}/file?form=${form}`;

/** Bring a file to the desk piece by piece; returns its id. told : how much of it is there, 0 to 1. */
export async function bringDeskFile(endpoint: string, file: File, told: (part: number) => void): Promise<string> {
  const begun = good(await api.POST("/api/desk/{endpoint}/files", { params: { path: { endpoint } }, body: { file_name: file.name } }));
  for (let at = 0; at < file.size; at += PIECE_BYTES) {
    const response = await fetch(`${BASE}/api/desk/${encodeURIComponent(endpoint)}/files/${begun.id}?at=${at}`, {
      method: "PUT",
      headers: { "Content-Type": "application/octet-stream" },
      body: file.slice(at, at + PIECE_BYTES),
    });
    if (!response.ok) throw ProblemError.of(response.status, await response.json().catch(() => null));
    told(Math.min(1, (at + PIECE_BYTES) / file.size));
  }
  return begun.id;
}

/** A row as JSON text, written by us so that numbers go out as they were typed. */
export async function postText<T>(path: string, body: string): Promise<T> {
  const response = await fetch(BASE + path, { method: "POST", headers: { "Content-Type": "application/json" }, body });
  const answer: unknown = await response.json().catch(() => null);
  if (!response.ok) throw ProblemError.of(response.status, answer);
  return answer as T;
}
