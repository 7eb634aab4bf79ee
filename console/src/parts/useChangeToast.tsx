// What an endpoint was changed to, in a toast that undoes it with one press.
import { api, type EndpointPage, good } from "../api/client";
import { useServiceChange } from "../api/useServiceChange";
import { Mono } from "./basics";
import { useToast } from "./Toasts";

type Changed = { summary: string; revision: number; undo: string | null };

/** A function that tells a change of the endpoint's setup. Undoing it serves the revision before it again, unless another change came since. */
export function useChangeToast(page: EndpointPage): (changed: Changed) => void {
  const toast = useToast();
  const params = { path: { endpoint: page.name } };
  const restore = useServiceChange("endpoint", async ({ revision }: Changed) => {
    const history = good(await api.GET("/api/endpoints/{endpoint}", { params })).history;
    const before = history.find((past) => past.revision < revision);
    if (!before) throw new Error("There is no revision before it.");
    const body = { setup: before.setup, after: revision, break_callers: false };
    return good(await api.PUT("/api/endpoints/{endpoint}/setup", { params, body }));
  });
  async function undo(changed: Changed): Promise<void> {
    try {
      toast({ title: (await restore.mutateAsync(changed)).summary });
    } catch (error) {
      toast({ title: `The change of ${page.name} was not undone`, detail: (error as Error).message });
    }
  }
  return (changed) =>
    toast(
      changed.undo
        ? { title: changed.summary, detail: <Mono>{changed.undo}</Mono>, undo: { name: "Undo", run: () => void undo(changed) } }
        : { title: changed.summary },
    );
}
