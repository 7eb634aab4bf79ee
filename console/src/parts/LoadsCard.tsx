// The loads that were put on an endpoint: what it answers, by how many clients ask at once.
import { useQuery } from "@tanstack/react-query";
import { api, good } from "../api/client";
import type { components } from "../api/schema";
import { type Column, DataTable } from "../table/DataTable";
import { ago, count, ms } from "../words";
import { Card, Mono } from "./basics";

type Load = components["schemas"]["LoadAnswer"];
/** at : which step of its load it is. */
type Step = { load: Load; step: components["schemas"]["StepFiguresAnswer"]; at: number };

const LIVE_MS = 5_000;

export function LoadsCard({ endpoint }: { endpoint: string }) {
  const loads = useQuery({
    queryKey: ["loads", endpoint],
    queryFn: async () => good(await api.GET("/api/loads", { params: { query: { endpoint, limit: 20 } } })),
    refetchInterval: LIVE_MS,
  });
  const steps: Step[] = (loads.data ?? []).flatMap((load) => load.steps.map((step, at) => ({ load, step, at })));
  const columns: Column<Step>[] = [
    { id: "load", value: ({ load }) => load.name, cell: ({ load }) => <Mono>{load.name}</Mono>, grow: true },
    { id: "began", value: ({ load }) => load.made_at, cell: ({ load }) => ago(load.made_at) },
    { id: "served", value: ({ load }) => load.serves[endpoint] ?? "" },
    { id: "clients", value: ({ step }) => step.clients, numeric: true },
    { id: "requests/s", value: ({ step }) => step.per_s, cell: ({ step }) => count(step.per_s), numeric: true },
    { id: "p50 ms", value: ({ step }) => step.p50_ms, cell: ({ step }) => ms(step.p50_ms), numeric: true },
    { id: "p99 ms", value: ({ step }) => step.p99_ms, cell: ({ step }) => ms(step.p99_ms), numeric: true },
    { id: "errors", value: ({ step }) => step.errors, cell: ({ step }) => count(step.errors), numeric: true },
  ];
  return (
    <Card
      title="Loads that were put on it"
      className="mt-4"
      aside={<span className="text-small text-faint">{`lamppost load ${endpoint} --clients 1,8,64`}</span>}
    >
      {steps.length ? (
        <DataTable label="loads" columns={columns} rows={steps} rowKey={({ load, at }) => `${load.name} ${at}`} height={320} />
      ) : (
        <p className="text-soft">
          None yet. A load asks the endpoint by real calls, which count as no traffic, and says how fast it answers.
        </p>
      )}
    </Card>
  );
}
