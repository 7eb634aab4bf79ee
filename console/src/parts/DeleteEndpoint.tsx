// Deleting an endpoint: who called it is said before, and the deletion can be taken back after, for a day.
import { Trash2 } from "lucide-react";
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, type EndpointPage, good } from "../api/client";
import { useCallers, useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { ago, plural } from "../words";
import { Button, Card, Mono } from "./basics";
import { ConfirmDialog } from "./ConfirmDialog";
import { useRestore } from "./DeletedEndpoints";
import { useToast } from "./Toasts";

const SHOWN = 5;

export function DeleteEndpoint({ page }: { page: EndpointPage }) {
  const may = useMay("point");
  const navigate = useNavigate();
  const toast = useToast();
  const restore = useRestore();
  const [asking, setAsking] = useState(false);
  const callers = useCallers(page.name, asking);
  const remove = useServiceChange(
    "endpoint",
    async () =>
      good(
        await api.DELETE("/api/endpoints/{endpoint}", {
          params: { path: { endpoint: page.name }, query: { break_callers: true } },
        }),
      ),
    (deleted) => {
      void navigate("/");
      toast({
        title: deleted.summary,
        detail: deleted.undo && <Mono>{deleted.undo}</Mono>,
        undo: { name: "Give it back", run: () => restore(page.name) },
      });
    },
  );
  if (!may) return null;
  return (
    <Card title="No longer needed?" className="mt-4">
      <div className="flex items-center justify-between gap-6">
        <p className="text-soft">
          Calls to a deleted endpoint get status 404. Its records stay, and it can be given back for a day. Versions stay stored.
        </p>
        <ConfirmDialog
          trigger={
            <Button kind="danger">
              <Trash2 size={14} aria-hidden /> Delete the endpoint
            </Button>
          }
          title={`Delete ${page.name}?`}
          command={`lamppost delete endpoint ${page.name}${callers.data?.length ? " --anyway" : ""}`}
          confirm="Delete it"
          confirming="Deleting …"
          danger
          change={remove}
          error={callers.error}
          onOpen={() => setAsking(true)}
        >
          {callers.data === undefined
            ? "Looking for its callers …"
            : callers.data.length
              ? "Whoever called it within the last week gets status 404 from then on:"
              : "Nobody called it within the last week."}
          {Boolean(callers.data?.length) && (
            <table className="figures mt-2 w-full" aria-label="callers of the last week">
              <tbody>
                {callers.data?.slice(0, SHOWN).map((caller) => (
                  <tr key={caller.token}>
                    <td className="font-mono text-ink">{caller.token}</td>
                    <td className="num">{plural(caller.calls, "call")}</td>
                    <td className="num">last {ago(caller.last_at)}</td>
                  </tr>
                ))}
              </tbody>
            </table>
          )}
          {(callers.data?.length ?? 0) > SHOWN && <p>and {plural((callers.data?.length ?? 0) - SHOWN, "other token")}</p>}
          <p className="mt-2">It can be given back as it is now, with its history, until this time tomorrow.</p>
        </ConfirmDialog>
      </div>
    </Card>
  );
}
