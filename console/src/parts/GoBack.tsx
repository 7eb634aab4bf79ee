import { Undo2 } from "lucide-react";
import { api, type EndpointPage as Page, good } from "../api/client";
import { useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { ago } from "../words";
import { Button, Mono } from "./basics";
import { ConfirmDialog } from "./ConfirmDialog";
import { Tip } from "./Tip";
import { useChangeToast } from "./useChangeToast";

/** Going back, always in reach: what it will do is said before, and how it is undone after. */
export function GoBack({ page }: { page: Page }) {
  const may = useMay("point");
  const back = useServiceChange(
    "endpoint",
    async () => good(await api.POST("/api/endpoints/{endpoint}/rollback", { params: { path: { endpoint: page.name } }, body: {} })),
    useChangeToast(page),
  );
  const target = page.back;
  if (!may) return null;
  const going = page.rollout && !page.rollout.ended_at;
  // the same versions in another way: the revision says what would come back, its name would not
  const other = target && target.summary !== page.summary ? target.summary : `revision ${target?.revision}`;
  const button = (
    <Button disabled={!target}>
      <Undo2 size={14} aria-hidden /> Go back{target ? ` to ${other.length < 28 ? other : "what was served"}` : ""}
    </Button>
  );
  if (!target)
    return (
      <Tip text={`${page.name} has served nothing else yet.`}>
        <span>{button}</span>
      </Tip>
    );
  return (
    <ConfirmDialog
      trigger={button}
      title={`Go back to ${other}?`}
      command={`lamppost rollback ${page.name}`}
      confirm="Go back"
      confirming="Going back …"
      change={back}
    >
      Every node serves <Mono className="text-slate">{target.summary}</Mono> again within a second, as of revision {target.revision} (
      {ago(target.since)}).
      {target.summary === page.summary && " The versions are the same; look-ups, rules or settings differ, as the history shows."} No call
      is lost, and <Mono className="text-amber">{page.summary}</Mono> stays open, so that this can be undone as quickly.
      {going && " The rollout that goes on ends."}
      {page.approvals > 0 && " Going back needs no review."}
    </ConfirmDialog>
  );
}
