import { useState } from "react";
import { Link } from "react-router";
import { type Alert, api, type Channel, good, type Notice } from "../api/client";
import { useAlerts, useChannels, useMay, useNotices } from "../api/queries";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Tip, Truncated } from "../parts/Tip";
import { useToast } from "../parts/Toasts";
import { type Column, DataTable } from "../table/DataTable";
import { ago, plural, when } from "../words";
import { useServiceChange } from "../api/useServiceChange";

/** What is wrong, since when, how sure, probably why, and what next? */
export function AlertsPage() {
  const alerts = useAlerts();
  const open = alerts.data?.filter(isOpen) ?? [];
  return (
    <>
      <h1 className="text-title font-semibold">Alerts</h1>
      <p className="mt-1 text-lead text-soft">
        {!alerts.data
          ? "\u00a0"
          : open.length
            ? `${plural(open.length, "alert")} open, the latest since ${ago(open[0]!.since)}.`
            : "Nothing is wrong."}
      </p>
      <QueryState query={alerts} loading="alerts" height={240}>
        {(all) => (
          <>
            {all.filter(isOpen).map((alert) => (
              <OpenAlert key={alert.number} alert={alert} />
            ))}
            <Over all={all.filter((alert) => !isOpen(alert))} />
          </>
        )}
      </QueryState>
      <Channels />
    </>
  );
}

const isOpen = (alert: Alert): boolean => alert.state !== "resolved";

const COLUMNS: Column<Alert>[] = [
  { id: "since", width: 112, value: (alert) => alert.since, cell: (alert) => when(alert.since) },
  { id: "until", width: 112, value: (alert) => alert.resolved_at, cell: (alert) => (alert.resolved_at ? when(alert.resolved_at) : "–") },
  {
    id: "endpoint",
    width: 160,
    value: (alert) => alert.endpoint,
    cell: (alert) => (
      <Link to={page(alert)} className="font-semibold hover:underline">
        {alert.endpoint}
      </Link>
    ),
  },
  { id: "rule", width: 80, value: (alert) => alert.rule, className: "text-soft" },
  { id: "what", grow: true, value: (alert) => alert.summary },
  { id: "probable cause", width: 320, hidden: true, value: (alert) => alert.probable_cause, className: "text-soft" },
];

function Over({ all }: { all: Alert[] }) {
  if (!all.length) return null;
  return (
    <Card title="Over" className="mt-4" aside={<span className="text-small text-faint">a row opens to its cause and notes</span>}>
      <DataTable
        label="alerts that are over"
        columns={COLUMNS}
        rows={all}
        rowKey={(alert) => String(alert.number)}
        rowName={(alert) => `alert ${alert.number}`}
        details={(alert) => (
          <div className="text-soft">
            <p>{alert.summary}</p>
            {alert.probable_cause && <p>Probably: {alert.probable_cause}.</p>}
            <p>Certainty: {alert.certainty}.</p>
            {alert.acknowledged_by && <p>Looked after by {alert.acknowledged_by}.</p>}
            {alert.note && <p>Note: {alert.note}</p>}
          </div>
        )}
      />
    </Card>
  );
}

export const page = (alert: Alert): string =>
  `/endpoints/${alert.endpoint}/${alert.rule === "drift" || alert.rule === "odd" ? "drift" : alert.rule === "quality" ? "outcomes" : "traffic"}`;

/** The same in two lines, for pages that are about something else too. */
export function NeedsLook({ alerts }: { alerts: Alert[] }) {
  if (!alerts.length) return null;
  return (
    <section className="mt-4 rounded-card border border-brick bg-brick-wash px-4 py-2" aria-label="needs a look">
      {alerts.slice(0, 5).map((alert) => (
        <div key={alert.number} className="flex items-center gap-4 py-2 not-first:border-t not-first:border-line">
          <div className="min-w-0 flex-1">
            <Truncated>
              <Link to={page(alert)} className="font-semibold hover:underline">
                {alert.endpoint}
              </Link>{" "}
              {alert.summary}
            </Truncated>
            <Truncated className="text-soft">
              Since {when(alert.since)}
              {alert.acknowledged_by && `, looked after by ${alert.acknowledged_by}`}.{" "}
              {alert.probable_cause && `Probably: ${alert.probable_cause}.`}
            </Truncated>
          </div>
          <Link
            to={page(alert)}
            className="inline-flex h-8 shrink-0 items-center rounded-small border border-brick px-3 font-semibold text-brick hover:bg-card"
          >
            Look at it
          </Link>
        </div>
      ))}
      {alerts.length > 5 && (
        <Link to="/alerts" className="text-soft underline">
          and {alerts.length - 5} more
        </Link>
      )}
    </section>
  );
}

const MUTED_MINUTES = 240;

export function OpenAlert({ alert }: { alert: Alert }) {
  const may = useMay("point");
  const [note, setNote] = useState("");
  const toast = useToast();
  const take = useServiceChange(
    "alert",
    async () =>
      good(
        await api.POST("/api/alerts/{alert}/acknowledge", {
          params: { path: { alert: alert.number } },
          body: { note: note.trim() || null },
        }),
      ),
    () => toast({ title: `You look after alert ${alert.number}`, detail: "It stays open until what it tells of is over." }),
  );
  const mute = useServiceChange("alert", async (minutes: number) =>
    good(
      await api.PUT("/api/endpoints/{endpoint}/mute", {
        params: { path: { endpoint: alert.endpoint } },
        body: { minutes, note: note.trim() || null },
      }),
    ),
  );
  async function muteForHours(): Promise<void> {
    const done = await mute.mutateAsync(MUTED_MINUTES).catch(() => null);
    if (done)
      toast({
        title: `${alert.endpoint} is muted until ${when(done.until)}`,
        undo: { name: "Undo", run: () => mute.mutate(0, { onSuccess: () => toast({ title: `${alert.endpoint} is no longer muted` }) }) },
      });
  }
  return (
    <section className="mt-4 rounded-card border border-brick bg-brick-wash p-4" aria-label={`alert ${alert.number}`}>
      <div className="flex items-baseline justify-between gap-4">
        <h2 className="font-semibold">
          <Link to={page(alert)} className="hover:underline">
            {alert.endpoint}
          </Link>{" "}
          <span className="font-normal text-soft">
            {alert.rule}, since {when(alert.since)}
            {alert.acknowledged_by && `, looked after by ${alert.acknowledged_by}`}
          </span>
        </h2>
        <span className="text-small text-faint">alert {alert.number}</span>
      </div>
      <p className="mt-1 text-lead">{alert.summary}</p>
      {alert.probable_cause && <p className="mt-1">Probably: {alert.probable_cause}.</p>}
      <p className="mt-1 text-soft">Certainty: {alert.certainty}.</p>
      {alert.note && <p className="mt-1 text-soft">Note: {alert.note}</p>}
      <div className="mt-3 flex flex-wrap items-center gap-3">
        <Link
          to={page(alert)}
          className="inline-flex h-8 shrink-0 items-center rounded-small bg-amber-fill px-3 font-semibold text-[#1d2731] hover:brightness-105"
        >
          Look at it
        </Link>
        {may && (
          <>
            {alert.state === "firing" && <Button onClick={() => take.mutate()}>I look after it</Button>}
            <Tip text="Nothing goes out about this endpoint for four hours. Alerts are raised and shown all the same.">
              <Button onClick={() => void muteForHours()}>Mute for 4 hours</Button>
            </Tip>
            <input
              className="control max-w-72"
              aria-label="note"
              placeholder="a note for the others"
              value={note}
              onChange={(event) => setNote(event.target.value)}
            />
          </>
        )}
        <Mono className="ml-auto text-small text-faint">{alert.next}</Mono>
      </div>
      {(take.error ?? mute.error) && <Trouble error={(take.error ?? mute.error)!} />}
    </section>
  );
}

type Lately = Channel & { sent: number; stuck: Notice[] };

const CHANNEL_COLUMNS: Column<Lately>[] = [
  { id: "channel", width: 136, value: (channel) => channel.name, className: "font-semibold" },
  { id: "kind", width: 80, value: (channel) => channel.kind, className: "text-soft" },
  { id: "to", grow: true, value: (channel) => channel.target, className: "font-mono" },
  { id: "endpoints", width: 160, value: (channel) => channel.endpoints?.join(", ") ?? "all", className: "text-soft" },
  { id: "reports", width: 88, value: (channel) => channel.reports, className: "text-soft" },
  {
    id: "lately",
    width: 168,
    value: ({ sent, stuck }) => `${sent} sent${stuck.length ? `, ${stuck.length} ${stuck[0]!.given_up ? "given up" : "waiting"}` : ""}`,
    className: (channel) => (channel.stuck.length ? "text-brick" : "text-soft"),
  },
];

function Channels() {
  const channels = useChannels();
  const notices = useNotices();
  const all = (channels.data ?? []).map((channel): Lately => {
    const mine = notices.data?.filter((notice) => notice.channel === channel.name) ?? [];
    const stuck = mine.filter((notice) => !notice.done_at);
    return { ...channel, sent: mine.length - stuck.length, stuck };
  });
  return (
    <Card title="Who hears of it" className="mt-4">
      {all.length ? (
        <DataTable
          label="channels"
          columns={CHANNEL_COLUMNS}
          rows={all}
          rowKey={(channel) => channel.name}
          details={(channel) => (
            <p className="text-soft">
              {channel.stuck[0]?.error ?? (channel.sent ? "Everything was delivered." : "Nothing was sent yet.")}{" "}
              <Mono>lamppost channel list</Mono>
            </p>
          )}
        />
      ) : (
        <>
          <p className="text-soft">Nobody yet. Webhooks are signed CloudEvents, mail is plain text; mail may get reports too:</p>
          <Snippets
            id="how to add a channel"
            all={[
              { name: "Webhook", text: "lamppost channel add night-shift --webhook https://example.org/hook" },
              { name: "Mail", text: "lamppost channel add lighting --mail lamps@example.org --reports weekly" },
            ]}
          />
        </>
      )}
    </Card>
  );
}
