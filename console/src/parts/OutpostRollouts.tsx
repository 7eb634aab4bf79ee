import { useQuery } from "@tanstack/react-query";
import { api, good } from "../api/client";
import type { components } from "../api/schema";
import { type Column, DataTable } from "../table/DataTable";
import { useNow } from "../useNow";
import { ago, count, plural } from "../words";
import { riskNote, RolloutCard } from "./RolloutCard";

type OutpostRollout = components["schemas"]["OutpostRolloutAnswer"];
type Turn = components["schemas"]["OutpostTurnAnswer"];

const LOOK_MS = 3_000;
const DAY_MS = 86_400_000;

/** Rollouts over outposts that go on or ended within a day, the last of each endpoint: of one endpoint, or of all. */
export function OutpostRollouts({ endpoint }: { endpoint?: string }) {
  const now = useNow();
  const rollouts = useQuery({
    queryKey: ["endpoint", "outpost rollouts", endpoint],
    queryFn: async () => good(await api.GET("/api/outpost-rollouts", { params: { query: { endpoint } } })),
    refetchInterval: LOOK_MS,
  });
  const shown = (rollouts.data ?? []).filter(
    (one, at, all) =>
      all.findIndex((other) => other.endpoint === one.endpoint) === at && !(one.ended_at && now - Date.parse(one.ended_at) > DAY_MS),
  );
  return shown.map((rollout) => <OneRollout key={rollout.number} rollout={rollout} />);
}

function OneRollout({ rollout }: { rollout: OutpostRollout }) {
  const turn = rollout.turns.find((one) => one.state === "has its turn");
  const left = rollout.turns.filter((one) => one.state !== "done").length;
  return (
    <div className="mt-4">
      <RolloutCard
        rollout={rollout}
        title={`Rollout of ${rollout.endpoint} over outposts`}
        command={`lamppost rollout ${rollout.endpoint} --at ${rollout.target} --follow`}
        progress={
          <div className="mt-3">
            <DataTable
              label={`turns of ${rollout.endpoint}`}
              columns={columns(rollout)}
              rows={rollout.turns}
              rowKey={(one) => one.outpost}
            />
          </div>
        }
        steer={async (act) =>
          good(
            await api.POST("/api/endpoints/{endpoint}/outposts/rollout/{act}", {
              params: { path: { endpoint: rollout.endpoint, act } },
            }),
          )
        }
        present={turn ? `at ${turn.outpost}` : "here"}
        note={`${plural(left, "outpost")} to go; ${riskNote(rollout.plan?.guards?.risk)}`}
      />
    </div>
  );
}

/** The turns of a rollout: what each outpost answered by the old and the new version while it gave both calls. */
function columns(rollout: OutpostRollout): Column<Turn>[] {
  const needed = rollout.plan?.step?.calls ?? 0;
  return [
    { id: "outpost", value: (one) => one.outpost, className: "font-mono" },
    {
      id: "turn",
      grow: true,
      value: (one) => one.state,
      cell: (one) => <span className={one.state === "has its turn" && !rollout.ended_at ? "text-amber" : ""}>{state(one, rollout)}</span>,
    },
    { id: "both since", value: (one) => one.since, cell: (one) => (one.since ? ago(one.since) : "–") },
    { id: rollout.old, numeric: true, value: (one) => one.calls[0] ?? 0 },
    {
      id: rollout.new,
      numeric: true,
      value: (one) => one.calls[1] ?? 0,
      cell: (one) => (
        <>
          {count(one.calls[1] ?? 0)}
          {needed > 0 && one.state === "has its turn" && <span className="text-faint"> of {count(needed)}</span>}
        </>
      ),
    },
  ];
}

const state = (one: Turn, rollout: OutpostRollout) =>
  one.state === "has its turn"
    ? `${rollout.plan?.step?.share ?? 20} % for ${rollout.new}`
    : one.state === "done"
      ? `serves ${rollout.new} alone`
      : `serves ${rollout.old}`;
