import { Undo2 } from "lucide-react";
import { AlertDialog } from "radix-ui";
import { api, type EndpointPage as Page, good } from "../api/client";
import { useMay } from "../api/queries";
import { ago } from "../words";
import { Button, Mono, Trouble } from "./basics";
import { useServiceChange } from "../api/useServiceChange";

/** Going back, always in reach: what it will do is said before, and how it is undone after. */
export function GoBack({ page }: { page: Page }) {
  const may = useMay("point");
  const back = useServiceChange("endpoint", async () =>
    good(await api.POST("/api/endpoints/{endpoint}/rollback", { params: { path: { endpoint: page.name } }, body: {} })),
  );
  const target = page.back;
  if (!may) return null;
  const going = page.rollout && !page.rollout.ended_at;
  // the same versions in another way: the revision says what would come back, its name would not
  const other = target && target.summary !== page.summary ? target.summary : `revision ${target?.revision}`;
  return (
    <AlertDialog.Root onOpenChange={() => back.reset()}>
      <AlertDialog.Trigger asChild>
        <Button
          disabled={!target}
          title={target ? `serve ${target.summary} again, as of revision ${target.revision}` : `${page.name} has served nothing else yet`}
        >
          <Undo2 size={14} aria-hidden /> Go back{target ? ` to ${other.length < 28 ? other : "what was served"}` : ""}
        </Button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 bg-ink/30" />
        <AlertDialog.Content className="fixed top-1/4 left-1/2 w-[min(520px,94vw)] -translate-x-1/2 rounded-card border border-line bg-card p-6 shadow-lg">
          <AlertDialog.Title className="text-lead font-semibold">
            {back.data ? back.data.summary : `Go back to ${other}?`}
          </AlertDialog.Title>
          <AlertDialog.Description asChild>
            <div className="mt-2 text-soft">
              {back.data ? (
                <p>
                  To undo it: <Mono>{back.data.undo}</Mono>
                </p>
              ) : (
                <>
                  <p>
                    Every node serves <Mono className="text-slate">{target?.summary}</Mono> again within a second, as of revision{" "}
                    {target?.revision} ({ago(target?.since ?? "")}).
                    {target?.summary === page.summary &&
                      " The versions are the same; look-ups, rules or settings differ, as the history shows."}{" "}
                    No call is lost, and <Mono className="text-amber">{page.summary}</Mono> stays open, so that this can be undone as
                    quickly.
                    {going && " The rollout that goes on ends."}
                    {page.approvals > 0 && " Going back needs no review."}
                  </p>
                  <p className="mt-2 text-small text-faint">
                    The same by command: <Mono>{`lamppost rollback ${page.name}`}</Mono>
                  </p>
                </>
              )}
            </div>
          </AlertDialog.Description>
          {back.error && (
            <div className="mt-3">
              <Trouble error={back.error} />
            </div>
          )}
          <div className="mt-5 flex justify-end gap-3">
            {back.data ? (
              <AlertDialog.Cancel asChild>
                <Button kind="main">Good</Button>
              </AlertDialog.Cancel>
            ) : (
              <>
                <AlertDialog.Cancel asChild>
                  <Button>Leave it</Button>
                </AlertDialog.Cancel>
                <Button kind="main" disabled={back.isPending} onClick={() => back.mutate()}>
                  {back.isPending ? "Going back …" : "Go back"}
                </Button>
              </>
            )}
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
