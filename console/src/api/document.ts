// The service's own OpenAPI document, as far as the page of documentation reads it.
import { useQuery } from "@tanstack/react-query";
import { BASE, ProblemError } from "./client";

export type Schema = {
  $ref?: string;
  type?: string | string[];
  properties?: Record<string, Schema>;
  required?: string[];
  items?: Schema;
  anyOf?: Schema[];
  enum?: unknown[];
  format?: string;
  contentEncoding?: string;
  description?: string;
  minimum?: number;
  maximum?: number;
  "x-unit"?: string;
};
type Content = Record<string, { schema?: Schema; example?: unknown }>;
export type Operation = {
  tags?: string[];
  summary?: string;
  description?: string;
  parameters?: { name: string; in: string }[];
  requestBody?: { content: Content };
  responses: Record<string, { description: string; content?: Content }>;
};
export type Document = { paths: Record<string, Record<string, Operation>>; components: { schemas: Record<string, Schema> } };

export const useDocument = () =>
  useQuery({
    queryKey: ["document"],
    queryFn: async () => {
      const response = await fetch(`${BASE}/openapi.json`);
      if (!response.ok) throw ProblemError.of(response.status, await response.json().catch(() => null));
      return (await response.json()) as Document;
    },
  });
