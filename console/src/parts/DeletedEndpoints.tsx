// Endpoints that were deleted within the last day, each with the button that gives it back.
import { api, type DeletedEndpoint, good } from "../api/client";
import { useDeletedEndpoints, useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { type Column, DataTable } from "../table/DataTable";
import { ago, when } from "../words";
import { Button, Card } from "./basics";
import { Serves } from "./Serves";
import { useToast } from "./Toasts";

/** A function that gives a deleted endpoint back, and says so. */
export function useRestore(): (endpoint: string) => void {
  const toast = useToast();
  const restore = useServiceChange(
    "endpoint",
    async (endpoint: string) => good(await api.POST("/api/endpoints/{endpoint}/restore", { params: { path: { endpoint } } })),
    (restored) => toast({ title: restored.summary }),
  );
  return (endpoint) =>
    restore.mutate(endpoint, {
      onError: (error) => toast({ title: `${endpoint} was not given back`, detail: error.message }),
    });
}

export function DeletedEndpoints() {
  const deleted = useDeletedEndpoints();
  const restore = useRestore();
  const may = useMay("point");
  if (!deleted.data?.length) return null;
  const columns: Column<DeletedEndpoint>[] = [
    { id: "endpoint", width: 220, value: (endpoint) => endpoint.name },
    { id: "served", grow: true, value: (endpoint) => endpoint.served, cell: (endpoint) => <Serves summary={endpoint.served} /> },
    {
      id: "deleted",
      width: 104,
      value: (endpoint) => endpoint.deleted_at,
      cell: (endpoint) => ago(endpoint.deleted_at),
      className: "text-soft",
    },
    { id: "by", width: 104, value: (endpoint) => endpoint.deleted_by, className: "text-soft" },
    {
      id: "until",
      width: 160,
      value: (endpoint) => endpoint.restorable_until,
      cell: (endpoint) => endpoint.restorable_until && when(endpoint.restorable_until),
      className: "text-soft",
    },
    {
      id: "undo",
      width: 128,
      cell: (endpoint) => may && <Button onClick={() => restore(endpoint.name)}>Give it back</Button>,
    },
  ];
  return (
    <Card title="Deleted within the last day" className="mt-4">
      <DataTable label="deleted endpoints" columns={columns} rows={deleted.data} rowKey={(endpoint) => endpoint.name} />
    </Card>
  );
}
