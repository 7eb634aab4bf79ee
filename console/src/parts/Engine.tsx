import { type FormEvent, useState } from "react";
import { api, type EndpointPage as Page, type Fault, good, type LaneRules, ProblemError } from "../api/client";
import { useLanes, useMay } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Mono, Trouble } from "./basics";
import { CheckField } from "./CheckField";
import { FieldInput, type FormField, settingField } from "./FieldInput";
import { LaneDetails } from "./LaneDetails";
import { useChangeToast } from "./useChangeToast";

/** How an endpoint's versions are run on this node: copies over time, the batches that really occurred, and the rules for both. */
export function Engine({ page }: { page: Page }) {
  const lanes = useLanes(page.name);
  const [changing, setChanging] = useState(false);
  const mine = lanes.data?.lanes ?? [];
  const may = useMay("point");
  return (
    <Card
      title="Engine"
      term="lane"
      className="mt-4"
      aside={
        <span className="flex items-center gap-3 text-small text-faint">
          {may && (
            <button type="button" className="text-soft underline hover:text-ink" onClick={() => setChanging(!changing)}>
              {changing ? "leave it as it is" : "change how it runs"}
            </button>
          )}
          {`lamppost lanes ${page.version}`}
        </span>
      }
    >
      {changing && <Rules key={page.revision} page={page} onDone={() => setChanging(false)} />}
      {mine.length ? (
        mine.map((lane) => <LaneDetails key={lane.version} lane={lane} />)
      ) : (
        <p className="text-soft">It sleeps on this node; the next call opens it.</p>
      )}
    </Card>
  );
}

const RULES = [
  settingField({ name: "copies_most", label: "most copies", kind: "integer", placeholder: "one for each core" }),
  settingField({ name: "max_rows", label: "most rows of a batch", kind: "integer", placeholder: "1,024" }),
  settingField({ name: "target_ms", label: "p99 to stay under", unit: "ms", kind: "number", placeholder: "no target" }),
  settingField({ name: "queue_rows", label: "most rows that wait", kind: "integer", placeholder: "20,000" }),
  settingField({ name: "queue_s", label: "longest expected wait", unit: "s", kind: "number", placeholder: "no bound" }),
  settingField({ name: "sleep_after_s", label: "sleeps after a quiet of", unit: "s", kind: "number", placeholder: "never" }),
];
type RuleName = "copies_most" | "max_rows" | "target_ms" | "queue_rows" | "queue_s" | "sleep_after_s";
const nameOf = (field: FormField): RuleName => field.name as RuleName;

/** Change the rules: in force at once on every node, and no call is lost. */
function Rules({ page, onDone }: { page: Page; onDone: () => void }) {
  const rules = page.setup.lane ?? {};
  const tell = useChangeToast(page);
  const [typed, setTyped] = useState<Record<string, string>>(
    Object.fromEntries(RULES.map((field) => [field.name, rules[nameOf(field)] == null ? "" : String(rules[nameOf(field)])])),
  );
  const [warm, setWarm] = useState(rules.keep_warm ?? false);
  const lane: LaneRules = { ...rules, keep_warm: warm };
  for (const field of RULES) lane[nameOf(field)] = typed[field.name]?.trim() ? Number(typed[field.name]) : null;
  const words = RULES.map(nameOf)
    .filter((name) => (lane[name] ?? null) !== (rules[name] ?? null))
    .map((name) => `--lane ${name}=${lane[name] ?? ""}`);
  if (warm !== (rules.keep_warm ?? false)) words.push(`--lane keep_warm=${warm}`);
  const save = useServiceChange(
    "endpoint",
    async () =>
      good(
        await api.PUT("/api/endpoints/{endpoint}/setup", {
          params: { path: { endpoint: page.name } },
          body: { setup: { ...page.setup, lane }, after: page.revision, break_callers: false },
        }),
      ),
    (done) => {
      tell(done);
      onDone();
    },
  );
  const faults = new Map<string, Fault>();
  for (const fault of save.error instanceof ProblemError ? save.error.faults : [])
    if (fault.field) faults.set(fault.field.split(".").pop()!, fault);
  for (const field of RULES)
    if (typed[field.name]?.trim() && !Number.isFinite(Number(typed[field.name])))
      faults.set(field.name, { field: field.name, expected: "a number" });
  const placed = RULES.some((field) => faults.has(field.name));

  function submit(event: FormEvent): void {
    event.preventDefault();
    save.mutate();
  }

  return (
    <form onSubmit={submit} aria-label="how it runs" className="mb-3 border-b border-line pb-4">
      <div className="grid grid-cols-3 gap-x-4 gap-y-2">
        {RULES.map((field) => (
          <FieldInput
            key={field.name}
            field={field}
            entry={typed[field.name] ?? ""}
            fault={faults.get(field.name)}
            onChange={(entry) => {
              setTyped((before) => ({ ...before, [field.name]: entry ?? "" }));
              save.reset();
            }}
          />
        ))}
        <CheckField checked={warm} onChange={setWarm} className="text-small text-soft">
          keep warm: opened at the start, never let go
        </CheckField>
      </div>
      {save.error && !placed && <Trouble error={save.error} />}
      <div className="mt-3 flex items-center gap-3">
        <Button kind="main" type="submit" disabled={placed || !words.length || save.isPending}>
          {save.isPending ? "Changing …" : "Change"}
        </Button>
        <span className="text-small text-faint">
          In force at once on every node; no call is lost. It is revision {page.revision + 1}, and revision {page.revision} can be had back.
        </span>
      </div>
      {words.length > 0 && (
        <p className="mt-2 text-small text-faint">
          The same by command: <Mono>{`lamppost setup ${page.name} ${words.join(" ")}`}</Mono>
        </p>
      )}
    </form>
  );
}
