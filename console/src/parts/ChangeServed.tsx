import { Slider, ToggleGroup } from "radix-ui";
import { type ReactNode, useState } from "react";
import { Link } from "react-router";
import { api, BREAKS_CALLERS, type EndpointPage as Page, good, ProblemError, type Setup } from "../api/client";
import { useMay, useModelVersions } from "../api/queries";
import { Button, Card, Mono, Trouble } from "./basics";
import { SelectMenu } from "./SelectMenu";
import { Term, Tip } from "./Tip";
import { useChangeToast } from "./useChangeToast";
import { useServiceChange } from "../api/useServiceChange";

type Way = "roll out" | "point" | "share" | "shadow";
const WAYS: [Way, string][] = [
  ["roll out", "step by step, guarded; it goes back by itself"],
  ["point", "all calls at once, as soon as it has proved itself"],
  ["share", "a fixed share of calls"],
  ["shadow", "copies of calls; its answers are recorded and never given"],
];

/** Give an endpoint another version: which, how, what will happen, and the command that does the same. */
export function ChangeServed({ page, onDone }: { page: Page; onDone: () => void }) {
  const models = new Set(page.versions.map((name) => name.split("@")[0]!));
  const versions = useModelVersions([...models]);
  const all = (versions.data ?? []).filter(
    (one) => models.has(one.model) && !one.retired_at && one.proof !== "failed" && !page.versions.includes(one.name),
  );
  const [chosen, setChosen] = useState("");
  const [way, setWay] = useState<Way>(page.setup.version ? "roll out" : "point");
  const [share, setShare] = useState(10);
  const [note, setNote] = useState("");
  const version = chosen || all[0]?.name || "";
  const sharing = page.setup.shares?.of;
  const approved = page.approvals === 0 || page.reviews.some((review) => review.version === version && review.state === "approved");
  const asked = page.reviews.find((review) => review.version === version && review.state === "open");
  const change = useChange(page, version, way, share, onDone);
  const ask = useAsk(page, version, note);
  const breaks = change.error instanceof ProblemError && change.error.type === BREAKS_CALLERS;
  if (versions.data && !all.length)
    return (
      <Card title="Serve another version" className="mt-4">
        <p className="text-soft">
          There is no other version of {[...models].join(" or ")} that may serve here. Push one:{" "}
          <Mono>{`lamppost push ${[...models][0]}.lamp`}</Mono>
        </p>
      </Card>
    );
  return (
    <Card
      title="Serve another version"
      className="mt-4"
      aside={<code className="text-small text-faint">{command(page, version, way, share)}</code>}
    >
      <div className="flex flex-wrap items-end gap-4">
        <div className="grid gap-1 text-small text-soft">
          version
          <SelectMenu
            label="version"
            className="w-56"
            value={version}
            onChange={setChosen}
            options={all.map((one) => ({ value: one.name, note: one.proof === "failed" ? "fails its proof" : undefined }))}
          />
        </div>
        <div className="grid gap-1 text-small text-soft">
          <span id="how">how</span>
          <ToggleGroup.Root
            type="single"
            aria-labelledby="how"
            className="inline-flex rounded-small border border-line"
            value={way}
            onValueChange={(next) => next && setWay(next as Way)}
          >
            {WAYS.map(([one, what]) => (
              <Tip key={one} text={what}>
                <ToggleGroup.Item
                  value={one}
                  disabled={one === "roll out" && !page.setup.version}
                  className="flex h-8 items-center px-3 text-body text-soft hover:text-ink disabled:opacity-50 aria-checked:bg-amber-wash aria-checked:font-semibold aria-checked:text-ink"
                >
                  {one}
                </ToggleGroup.Item>
              </Tip>
            ))}
          </ToggleGroup.Root>
        </div>
        {(way === "share" || way === "shadow") && <Share label={way === "share" ? "share" : "copied"} value={share} onChange={setShare} />}
        <Link to={`/compare?before=${page.version}&after=${version}`} className="pb-1 text-soft underline hover:text-ink">
          what would change
        </Link>
      </div>
      {sharing && way === "share" && (
        <p className="mt-2 text-small text-faint">It takes its share from {page.version}; the others keep theirs.</p>
      )}
      <p className="mt-3 text-soft">{consequence(page, version, way, share)}</p>
      {!approved && way !== "shadow" ? (
        <Ask asked={asked?.number} needed={page.approvals} note={note} onNote={setNote}>
          <Button kind="main" disabled={!note.trim() || ask.isPending} onClick={() => ask.mutate()}>
            Ask for review
          </Button>
        </Ask>
      ) : (
        <div className="mt-3 flex items-center gap-3">
          <Button kind="main" disabled={!version || change.isPending} onClick={() => change.mutate(false)}>
            {change.isPending
              ? "Opening and proving it …"
              : way === "roll out"
                ? `Roll ${version} out`
                : way === "point"
                  ? `Serve ${version}`
                  : way === "share"
                    ? `Give it ${share} %`
                    : `Copy ${share} % to it`}
          </Button>
          {breaks && <Button onClick={() => change.mutate(true)}>Do it anyway</Button>}
        </div>
      )}
      {(change.error ?? ask.error) && (
        <div className="mt-3">
          <Trouble error={(change.error ?? ask.error) as Error} />
        </div>
      )}
    </Card>
  );
}

function Ask({
  asked,
  needed,
  note,
  onNote,
  children,
}: {
  asked: number | undefined;
  needed: number;
  note: string;
  onNote: (note: string) => void;
  children: ReactNode;
}) {
  if (asked !== undefined)
    return (
      <p className="mt-3">
        Review {asked} is open; it needs {needed === 1 ? "an approval" : `${needed} approvals`} by somebody else.{" "}
        <Link to="/reviews" className="underline">
          See reviews
        </Link>
      </p>
    );
  return (
    <div className="mt-3 flex items-end gap-3">
      <label className="grid flex-1 gap-1 text-small text-soft">
        It needs {needed === 1 ? "an approval" : `${needed} approvals`} by others before it serves. What changed, and why should it?
        <input className="control" value={note} onChange={(event) => onNote(event.target.value)} />
      </label>
      {children}
    </div>
  );
}

/** A share that one can take hold of. */
export function Share({ label, value, onChange }: { label: string; value: number; onChange: (value: number) => void }) {
  return (
    <label className="grid w-64 gap-1 text-small text-soft">
      {label}: {value} % of calls
      <span className="flex h-8 items-center">
        <Slider.Root
          className="relative flex h-5 flex-1 touch-none items-center"
          min={0}
          max={100}
          step={1}
          value={[value]}
          onValueChange={([next]) => onChange(next ?? 0)}
        >
          <Slider.Track className="relative h-2 flex-1 rounded-full bg-slate-fill">
            <Slider.Range className="absolute h-full rounded-full bg-amber-fill" />
          </Slider.Track>
          <Slider.Thumb aria-label={label} className="block h-5 w-5 rounded-full border-2 border-card bg-amber-fill shadow" />
        </Slider.Root>
      </span>
    </label>
  );
}

function consequence(page: Page, version: string, way: Way, share: number): string {
  const first = (page.setup.rollout?.steps ?? [{ share: 1 }])[0]?.share ?? 1;
  const undo = "Undo: Go back.";
  if (way === "roll out")
    return page.setup.version
      ? `${version} answers ${first} % of calls first, and more as long as its guards stay calm; when one does not, ${page.summary} gets everything back by itself.`
      : `A rollout goes from one version to another; this endpoint serves ${page.summary}.`;
  if (way === "point")
    return `${version} is opened and proved beside what serves now, then every call goes to it on every node, and none is lost. ${undo}`;
  if (way === "share") return `${share} of 100 calls go to ${version}, exactly over time. ${undo}`;
  return `${share} of 100 calls are copied to ${version}, behind all live calls; no caller notices.`;
}

function command(page: Page, version: string, way: Way, share: number): string {
  if (way === "roll out") return `lamppost rollout ${page.name} ${version}`;
  if (way === "point") return `lamppost point ${page.name} ${version}`;
  if (way === "shadow") return `lamppost shadow ${page.name} ${version} --share ${share}`;
  return `lamppost split ${page.name} ${Object.entries(withShare(page, version, share))
    .map(([name, part]) => `${name}=${part}`)
    .join(" ")}`;
}

function withShare(page: Page, version: string, share: number): Record<string, number> {
  const of: Record<string, number> = { ...(page.setup.shares?.of ?? { [page.version]: 100 }) };
  delete of[version];
  const others = Object.values(of).reduce((sum, part) => sum + part, 0) || 1;
  const kept = Object.fromEntries(Object.entries(of).map(([name, part]) => [name, Math.round((part * (100 - share)) / others)]));
  const first = Object.keys(kept)[0]!;
  kept[first] = kept[first]! + (100 - share - Object.values(kept).reduce((sum, part) => sum + part, 0));
  return { ...kept, [version]: share };
}

function useChange(page: Page, version: string, way: Way, share: number, onDone: () => void) {
  const params = { path: { endpoint: page.name } };
  const tell = useChangeToast(page);
  return useServiceChange(
    "endpoint",
    async (break_callers: boolean) => {
      if (way === "roll out")
        return good(await api.POST("/api/endpoints/{endpoint}/rollout", { params, body: { version, break_callers } }));
      if (way === "point") return good(await api.POST("/api/endpoints/{endpoint}/point", { params, body: { version, break_callers } }));
      const { shadows = [], ...rest } = page.setup;
      for (const key of ["version", "shares", "choose", "together"] as const) delete rest[key];
      const served: Partial<Setup> = {
        version: page.setup.version,
        shares: page.setup.shares,
        choose: page.setup.choose,
        together: page.setup.together,
      };
      const setup: Setup =
        way === "share"
          ? {
              ...rest,
              shadows: shadows.filter((one) => one.version !== version),
              shares: { of: withShare(page, version, share), sticky: page.setup.shares?.sticky },
            }
          : { ...rest, ...served, shadows: [...shadows.filter((one) => one.version !== version), { version, share }] };
      return good(await api.PUT("/api/endpoints/{endpoint}/setup", { params, body: { setup, after: page.revision, break_callers } }));
    },
    (done) => {
      // a rollout is told by its own card, and taken back there
      if ("undo" in done) tell(done);
      onDone();
    },
  );
}

function useAsk(page: Page, version: string, note: string) {
  return useServiceChange("endpoint", async () => good(await api.POST("/api/reviews", { body: { endpoint: page.name, version, note } })));
}

/** The shares in force as a bar; whoever may can take hold of the border between two versions. */
export function SharesCard({ page }: { page: Page }) {
  const may = useMay("point");
  const of = Object.entries(page.setup.shares?.of ?? {});
  const going = page.rollout && !page.rollout.ended_at;
  const [typed, setTyped] = useState<number | null>(null);
  const tell = useChangeToast(page);
  const save = useServiceChange(
    "endpoint",
    async (shares: Record<string, number>) =>
      good(
        await api.PUT("/api/endpoints/{endpoint}/setup", {
          params: { path: { endpoint: page.name } },
          body: {
            setup: { ...page.setup, shares: { of: shares, sticky: page.setup.shares?.sticky } },
            after: page.revision,
            break_callers: false,
          },
        }),
      ),
    (done) => {
      setTyped(null);
      tell(done);
    },
  );
  if ((!of.length || going) && !page.shadows.length) return null;
  const pair = of.length === 2 && may && !going;
  const second = of[1];
  const value = typed ?? second?.[1] ?? 0;
  const shown = pair && second ? [[of[0]![0], 100 - value] as const, [second[0], value] as const] : of;
  const sticky = page.setup.shares?.sticky;
  return (
    <Card
      title="Shares"
      className="mt-4"
      aside={
        <code className="text-small text-faint">
          {of.length ? `lamppost split ${page.name} ${shown.map(([name, part]) => `${name}=${part}`).join(" ")}` : ""}
        </code>
      }
    >
      {of.length > 0 && !going && (
        <div
          className="flex h-8 overflow-hidden rounded-small border border-line"
          role="img"
          aria-label={shown.map(([name, part]) => `${name} ${part} %`).join(", ")}
        >
          {shown.map(([name, part], at) => (
            <span
              key={name}
              className={`flex items-center gap-2 overflow-hidden px-2 font-mono text-small whitespace-nowrap ${at === 0 ? "bg-amber-fill text-[#1d2731]" : at % 2 ? "bg-amber-wash text-ink" : "bg-sunk text-ink"}`}
              style={{ width: `${part}%` }}
            >
              {part >= 8 && `${name} ${part} %`}
            </span>
          ))}
        </div>
      )}
      {pair && second && (
        <div className="mt-2 flex items-end gap-4">
          <Share label={second[0]} value={value} onChange={setTyped} />
          <Button
            kind="main"
            disabled={typed === null || typed === second[1] || save.isPending}
            onClick={() => save.mutate(Object.fromEntries(shown))}
          >
            Change the shares
          </Button>
        </div>
      )}
      {sticky && (
        <p className="mt-2 text-soft">
          Calls with the same {sticky.by} <Mono>{sticky.name}</Mono> go to the same version; when shares change, only those move that must.
        </p>
      )}
      {page.shadows.map((shadow) => (
        <p key={shadow.version} className="mt-2">
          <Term word="shadow">Shadow</Term> <Mono className="text-slate">{shadow.version}</Mono>{" "}
          <span className="text-soft">
            gets copies of {shadow.share} % of calls:{" "}
            {shadow.open
              ? `${shadow.answered} answered, ${shadow.failed} failed, ${shadow.left_out} left out on this node`
              : (shadow.reason ?? "it is being opened")}
            .
          </span>
        </p>
      ))}
      {save.error && <Trouble error={save.error} />}
    </Card>
  );
}
