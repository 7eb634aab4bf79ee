// Puts the pick of a sweep into the lane rules of an endpoint, the difference shown first.
import { useState } from "react";
import { api, type EndpointPage, good } from "../api/client";
import { useEndpoint, useModelVersions } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Mono } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { SelectMenu } from "../parts/SelectMenu";
import { useChangeToast } from "../parts/useChangeToast";
import type { SweepDetail, Wanted } from "./queries";

export function UsePick({ found, wanted }: { found: SweepDetail; wanted: Wanted }) {
  const version = found.settings[found.picked.pick!]!.version;
  const serves = useModelVersions([version.split("@")[0]!]).data?.find((one) => one.name === version)?.serves ?? [];
  const [chosen, setChosen] = useState("");
  const endpoint = chosen || serves[0];
  if (!endpoint) return <span className="text-small text-faint">{`no endpoint serves ${version}`}</span>;
  return (
    <>
      {serves.length > 1 && (
        <span className="w-48">
          <SelectMenu label="endpoint" value={endpoint} options={serves.map((value) => ({ value }))} onChange={setChosen} />
        </span>
      )}
      <UseAt key={endpoint} endpoint={endpoint} found={found} wanted={wanted} />
    </>
  );
}

function UseAt({ endpoint, found, wanted }: { endpoint: string; found: SweepDetail; wanted: Wanted }) {
  const page = useEndpoint(endpoint).data;
  if (!page) return null;
  return <UseDialog page={page} found={found} wanted={wanted} />;
}

function UseDialog({ page, found, wanted }: { page: EndpointPage; found: SweepDetail; wanted: Wanted }) {
  const tell = useChangeToast(page);
  const before: Record<string, unknown> = { ...page.setup.lane };
  const rules = Object.fromEntries(Object.entries(found.picked.rules ?? {}).filter(([, value]) => value !== null && value !== false));
  const lane = { ...(page.setup.lane ?? { keep_warm: false }), ...rules };
  const changes = Object.entries(rules).filter(([name, value]) => before[name] !== value);
  const save = useServiceChange(
    "endpoint",
    async () =>
      good(
        await api.PUT("/api/endpoints/{endpoint}/setup", {
          params: { path: { endpoint: page.name } },
          body: { setup: { ...page.setup, lane }, after: page.revision, break_callers: false },
        }),
      ),
    tell,
  );
  const limits = (wanted.limits ?? found.picked.limits).map((limit) => `--limit ${limit}`).join(" ");
  return (
    <ConfirmDialog
      trigger={
        <Button kind="main" disabled={!changes.length}>
          {changes.length ? "Use the pick" : "In use"}
        </Button>
      }
      title={`Run the lanes of ${page.name} like this?`}
      confirm="Use it"
      confirming="Changing"
      change={save}
      command={`lamppost sweep pick ${found.name} ${limits} --use ${page.name}`.replace("  ", " ")}
    >
      <p>{found.picked.sentences[0]}</p>
      <ul className="mt-2 grid gap-1">
        {changes.map(([name, value]) => (
          <li key={name}>
            <Mono>
              {`lane.${name}`}: {before[name] == null ? "–" : String(before[name])} → {String(value)}
            </Mono>
          </li>
        ))}
      </ul>
      <p className="mt-2">It is in force at once on every node, and no call is lost. The toast undoes it.</p>
    </ConfirmDialog>
  );
}
