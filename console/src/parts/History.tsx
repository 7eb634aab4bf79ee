import { useState } from "react";
import { Link } from "react-router";
import { api, type EndpointPage as Page, good } from "../api/client";
import { useMay } from "../api/queries";
import { ago, when } from "../words";
import { Button, Card, Mono, Trouble } from "./basics";
import { Serves } from "./Serves";
import { Tip, Truncated } from "./Tip";
import { useChangeToast } from "./useChangeToast";
import { useServiceChange } from "../api/useServiceChange";

const FIRST = 12;

/** What was served, as a line in time, the newest above; any of it can be had again. */
export function History({ page }: { page: Page }) {
  const [whole, setWhole] = useState(false);
  const shown = whole ? page.history : page.history.slice(0, FIRST);
  return (
    <Card
      title="Served"
      term="revision"
      className="mt-4"
      aside={
        <Link to={`/trail?subject=${page.name}`} className="text-small text-soft underline hover:text-ink">
          who did what
        </Link>
      }
    >
      <ol className="relative ml-2">
        {shown.map((past, at) => (
          <Entry
            key={past.revision}
            page={page}
            past={past}
            now={at === 0}
            last={at === shown.length - 1 && shown.length === page.history.length}
          />
        ))}
      </ol>
      {!whole && page.history.length > FIRST && (
        <Button className="mt-2" onClick={() => setWhole(true)}>
          Show all {page.history.length}
        </Button>
      )}
    </Card>
  );
}

function Entry({ page, past, now, last }: { page: Page; past: Page["history"][number]; now: boolean; last: boolean }) {
  const [asking, setAsking] = useState(false);
  const may = useMay("point");
  const tell = useChangeToast(page);
  const restore = useServiceChange(
    "endpoint",
    async () =>
      good(
        await api.PUT("/api/endpoints/{endpoint}/setup", {
          params: { path: { endpoint: page.name } },
          body: { setup: past.setup, after: page.revision, break_callers: false },
        }),
      ),
    (done) => {
      setAsking(false);
      tell(done);
    },
  );
  const step = past.rollout !== null && past.rollout !== undefined;
  return (
    <li className={`relative pl-6 ${last ? "pb-0" : "pb-3"}`}>
      {!last && <span className="absolute top-3 left-[3.5px] h-full w-px bg-line" aria-hidden />}
      <span
        className={`absolute top-[6px] left-0 h-2 w-2 rounded-full ${now ? "bg-amber-fill shadow-[var(--glow)]" : step ? "border border-slate-fill bg-card" : "bg-slate-fill"}`}
        aria-hidden
      />
      <div className="flex items-baseline gap-4">
        <Truncated className="min-w-0 flex-1">
          <Serves summary={past.summary} live={now} />{" "}
          <span className="text-small text-faint">
            {past.restores ? `went back to revision ${past.restores}` : step ? `step of rollout ${past.rollout}` : ""}
          </span>
        </Truncated>
        <Tip text={when(past.since)}>
          <span className="w-24 text-right text-soft">{ago(past.since)}</span>
        </Tip>
        <Truncated className="w-40 text-soft">{past.changed_by}</Truncated>
        <span className="w-28 text-right text-small text-faint">
          {now ? (
            "in service"
          ) : may && !step ? (
            <button type="button" className="text-soft underline hover:text-ink" onClick={() => setAsking(!asking)}>
              have it again
            </button>
          ) : (
            `revision ${past.revision}`
          )}
        </span>
      </div>
      {asking && (
        <div className="mt-2 rounded-small bg-sunk p-3">
          <p>
            {page.name} serves <Mono className="text-slate">{past.summary}</Mono> again, with look-ups, rules and shadows as they were in
            revision {past.revision}. To undo it: Go back.
          </p>
          <p className="mt-2 flex items-center gap-3">
            <Button kind="main" disabled={restore.isPending} onClick={() => restore.mutate()}>
              {restore.isPending ? "Opening it …" : "Serve it again"}
            </Button>
            <span className="text-small text-faint">
              <Mono>{`lamppost setup ${page.name} --as-of ${past.revision}`}</Mono>
            </span>
          </p>
          {restore.error && <Trouble error={restore.error} />}
        </div>
      )}
    </li>
  );
}
