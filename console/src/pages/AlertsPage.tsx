import { useState } from "react";
import { Link } from "react-router";
import { type Alert, api, good } from "../api/client";
import { useAlerts, useChannels, useMay, useNotices } from "../api/queries";
import { Button, Card, Mono, Snippets, Trouble, Waiting } from "../parts/basics";
import { ago, plural, when } from "../words";
import { useServiceChange } from "../api/useServiceChange";

/** What is wrong, since when, how sure, probably why, and what next? */
export function AlertsPage() {
  const alerts = useAlerts();
  const found = alerts.data;
  const open = found?.filter((one) => one.state !== "resolved") ?? [];
  const over = found?.filter((one) => one.state === "resolved") ?? [];
  return (
    <>
      <h1 className="text-title font-semibold">Alerts</h1>
      <p className="mt-1 text-lead text-soft">
        {!found ? (
          <>&nbsp;</>
        ) : open.length ? (
          `${plural(open.length, "alert")} open, the latest since ${ago(open[0]!.since)}.`
        ) : (
          "Nothing is wrong."
        )}
      </p>
      {alerts.error && !found ? <Trouble error={alerts.error} /> : !found ? <Waiting height={240} label="loading alerts" /> : null}
      {open.map((one) => (
        <OpenAlert key={one.number} alert={one} />
      ))}
      {over.length > 0 && (
        <Card title="Over" className="mt-4">
          <table className="figures w-full table-fixed">
            <thead>
              <tr>
                <th className="w-32">since</th>
                <th className="w-32">until</th>
                <th className="w-40">endpoint</th>
                <th className="w-20">rule</th>
                <th>what, and probably why</th>
              </tr>
            </thead>
            <tbody>
              {over.map((one) => (
                <tr key={one.number}>
                  <td>{when(one.since)}</td>
                  <td>{one.resolved_at ? when(one.resolved_at) : "–"}</td>
                  <td>
                    <Link to={page(one)} className="font-semibold hover:underline">
                      {one.endpoint}
                    </Link>
                  </td>
                  <td className="text-soft">{one.rule}</td>
                  <td className="py-2 whitespace-normal!">
                    {one.summary}
                    {one.probable_cause && <span className="block text-soft">Probably: {one.probable_cause}</span>}
                  </td>
                </tr>
              ))}
            </tbody>
          </table>
        </Card>
      )}
      <Channels />
    </>
  );
}

export const page = (one: Alert): string =>
  `/endpoints/${one.endpoint}/${one.rule === "drift" || one.rule === "odd" ? "drift" : one.rule === "quality" ? "outcomes" : "traffic"}`;

/** The same in two lines, for pages that are about something else too. */
export function NeedsLook({ alerts }: { alerts: Alert[] }) {
  if (!alerts.length) return null;
  return (
    <section className="mt-4 rounded-card border border-brick bg-brick-wash px-4 py-2" aria-label="needs a look">
      {alerts.slice(0, 5).map((one) => (
        <div key={one.number} className="flex items-center gap-4 py-2 not-first:border-t not-first:border-line">
          <div className="min-w-0 flex-1">
            <p className="truncate">
              <Link to={page(one)} className="font-semibold hover:underline">
                {one.endpoint}
              </Link>{" "}
              {one.summary}
            </p>
            <p className="truncate text-soft" title={one.probable_cause ?? undefined}>
              Since {when(one.since)}
              {one.acknowledged_by && `, looked after by ${one.acknowledged_by}`}.{" "}
              {one.probable_cause && `Probably: ${one.probable_cause}.`}
            </p>
          </div>
          <Link
            to={page(one)}
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

export function OpenAlert({ alert }: { alert: Alert }) {
  const may = useMay("point");
  const [note, setNote] = useState("");
  const take = useServiceChange("alert", async () =>
    good(
      await api.POST("/api/alerts/{alert}/acknowledge", { params: { path: { alert: alert.number } }, body: { note: note.trim() || null } }),
    ),
  );
  const mute = useServiceChange("alert", async () =>
    good(
      await api.PUT("/api/endpoints/{endpoint}/mute", {
        params: { path: { endpoint: alert.endpoint } },
        body: { minutes: 240, note: note.trim() || null },
      }),
    ),
  );
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
            <Button
              onClick={() => mute.mutate()}
              title="nothing goes out about this endpoint for four hours; alerts are raised and shown all the same"
            >
              {mute.isSuccess ? `muted until ${when(mute.data.until)}` : "Mute for 4 hours"}
            </Button>
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

function Channels() {
  const channels = useChannels();
  const notices = useNotices();
  return (
    <Card title="Who hears of it" className="mt-4">
      {channels.data?.length ? (
        <table className="figures w-full">
          <thead>
            <tr>
              <th>channel</th>
              <th>kind</th>
              <th className="w-full">to</th>
              <th>endpoints</th>
              <th>reports</th>
              <th>lately</th>
            </tr>
          </thead>
          <tbody>
            {channels.data.map((one) => {
              const sent = notices.data?.filter((notice) => notice.channel === one.name) ?? [];
              const stuck = sent.filter((notice) => !notice.done_at);
              return (
                <tr key={one.name}>
                  <td className="font-semibold">{one.name}</td>
                  <td className="text-soft">{one.kind}</td>
                  <td className="font-mono">{one.target}</td>
                  <td className="text-soft">{one.endpoints?.join(", ") ?? "all"}</td>
                  <td className="text-soft">{one.reports}</td>
                  <td className={stuck.length ? "text-brick" : "text-soft"} title={stuck[0]?.error ?? undefined}>
                    {sent.length - stuck.length} sent
                    {stuck.length ? `, ${stuck.length} ${stuck[0]!.given_up ? "given up" : "waiting"}` : ""}
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
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
