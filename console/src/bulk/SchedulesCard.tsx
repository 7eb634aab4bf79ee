// Bulk runs that start by themselves: when each is due, and how its last run went.
import { useState } from "react";
import { Link } from "react-router";
import { useQuery } from "@tanstack/react-query";
import { api, good } from "../api/client";
import type { components } from "../api/schema";
import { useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { QueryState } from "../parts/QueryState";
import { useToast } from "../parts/Toasts";
import { type Column, DataTable } from "../table/DataTable";
import { ago, when } from "../words";

type Schedule = components["schemas"]["ScheduleAnswer"];
type Time = components["schemas"]["ScheduledTimeAnswer"];

const useSchedules = () =>
  useQuery({
    queryKey: ["bulk", "schedules"],
    queryFn: async () => good(await api.GET("/api/schedules")),
    refetchInterval: 10_000,
  });

const useTimes = (name: string) =>
  useQuery({
    queryKey: ["bulk", "schedules", name],
    queryFn: async () => good(await api.GET("/api/schedules/{name}/times", { params: { path: { name } } })),
  });

export function SchedulesCard() {
  const schedules = useSchedules();
  const may = useMay("point");
  const [failed, setFailed] = useState<Error | null>(null);
  return (
    <Card title="Schedules">
      <QueryState
        query={schedules}
        loading="schedules"
        height={96}
        isEmpty={(all) => all.length === 0}
        empty={
          <>
            <p className="text-soft">None: every run is started by somebody.</p>
            <Snippets
              id="make a schedule"
              all={[
                {
                  name: "Command",
                  text: "lamppost schedule add nightly-risk --every '0 5 * * *' --zone Europe/Lisbon -- bulk start outage-risk --from FOLDER:lamps.parquet --to 'FOLDER:scored-{date}.parquet'",
                },
              ]}
            />
          </>
        }
      >
        {(all) => (
          <DataTable
            label="schedules"
            columns={may ? [...COLUMNS, doing(setFailed)] : COLUMNS}
            rows={all}
            rowKey={(one) => one.name}
            details={(one) => <Times schedule={one} />}
          />
        )}
      </QueryState>
      {failed && (
        <div className="mt-3">
          <Trouble error={failed} />
        </div>
      )}
    </Card>
  );
}

function lastOf(time: Time | null): string {
  if (!time) return "–";
  return time.state === "started" ? (time.run_state ?? "forgotten") : time.state;
}

const isWrong = (time: Time | null): boolean => time?.state === "refused" || time?.run_state === "failed";

const COLUMNS: Column<Schedule>[] = [
  { id: "schedule", width: 160, value: (one) => one.name, className: "font-mono" },
  {
    id: "every",
    width: 200,
    value: (one) => `${one.every} ${one.zone}`,
    cell: (one) => (
      <>
        <Mono>{one.every}</Mono> <span className="text-faint">{one.zone}</span>
      </>
    ),
  },
  {
    id: "next",
    width: 144,
    value: (one) => one.next_times[0] ?? "",
    cell: (one) => (one.paused ? <span className="text-amber">paused</span> : one.next_times[0] ? when(one.next_times[0]) : "never"),
  },
  {
    id: "last",
    width: 176,
    value: (one) => lastOf(one.latest),
    cell: (one) => (
      <span className={isWrong(one.latest) ? "font-semibold text-brick" : ""}>
        {one.latest?.run ? (
          <Link to={`/bulk/${one.latest.run}`} className="hover:underline">
            {lastOf(one.latest)}
          </Link>
        ) : (
          lastOf(one.latest)
        )}
        {one.latest && <span className="text-faint"> {ago(one.latest.due_at)}</span>}
      </span>
    ),
  },
  { id: "from", grow: true, value: (one) => one.run.source, className: "font-mono text-soft" },
];

const doing = (failed: (error: Error | null) => void): Column<Schedule> => ({
  id: "do",
  head: null,
  width: 224,
  cell: (one) => <Doing schedule={one} failed={failed} />,
});

function Doing({ schedule, failed }: { schedule: Schedule; failed: (error: Error | null) => void }) {
  const toast = useToast();
  const path = { params: { path: { name: schedule.name } } };
  const run = useServiceChange("bulk", async () => good(await api.POST("/api/schedules/{name}/run", path)));
  const turn = useServiceChange("bulk", async () =>
    good(await (schedule.paused ? api.POST("/api/schedules/{name}/resume", path) : api.POST("/api/schedules/{name}/pause", path))),
  );
  const remove = useServiceChange("bulk", async () => good(await api.DELETE("/api/schedules/{name}", path)));
  return (
    <span className="flex justify-end gap-1">
      <Button
        className="!h-6 !px-2 text-small"
        disabled={run.isPending}
        onClick={() => {
          failed(null);
          run.mutate(undefined, { onSuccess: (started) => toast({ title: `Started ${started.run}` }), onError: failed });
        }}
      >
        Run now
      </Button>
      <Button className="!h-6 !px-2 text-small" disabled={turn.isPending} onClick={() => turn.mutate(undefined, { onError: failed })}>
        {schedule.paused ? "Resume" : "Pause"}
      </Button>
      <ConfirmDialog
        trigger={<Button className="!h-6 !px-2 text-small">Remove</Button>}
        title={`Remove the schedule ${schedule.name}?`}
        confirm="Remove"
        danger
        change={remove}
        command={`lamppost schedule remove ${schedule.name}`}
      >
        Nothing is started by it any more. The runs that it has started stay.
      </ConfirmDialog>
    </span>
  );
}

/** What was done at the last times, and when it is due next. */
function Times({ schedule }: { schedule: Schedule }) {
  const times = useTimes(schedule.name);
  return (
    <div className="grid grid-cols-[minmax(0,1fr)_minmax(0,2fr)] gap-6 py-2">
      <div>
        <p className="text-small text-faint">next</p>
        <ul>
          {schedule.next_times.map((at) => (
            <li key={at}>{when(at)}</li>
          ))}
          {!schedule.next_times.length && <li className="text-soft">{schedule.paused ? "paused" : "never"}</li>}
        </ul>
      </div>
      <QueryState query={times} loading="its last times" height={48}>
        {(all) => (
          <div>
            <p className="text-small text-faint">last</p>
            <ul>
              {all.slice(0, 8).map((time) => (
                <li key={time.due_at} className="flex gap-3">
                  <span className="w-32 shrink-0">{when(time.due_at)}</span>
                  <span className={`w-20 shrink-0 ${isWrong(time) ? "text-brick" : ""}`}>{lastOf(time)}</span>
                  <span className="min-w-0 text-soft">{time.note}</span>
                </li>
              ))}
              {!all.length && <li className="text-soft">it was not due yet</li>}
            </ul>
          </div>
        )}
      </QueryState>
    </div>
  );
}
