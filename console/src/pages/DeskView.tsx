import { useQuery } from "@tanstack/react-query";
import { type FormEvent, useState } from "react";
import { api, type EndpointPage as Page, good, ProblemError } from "../api/client";
import { useMay } from "../api/queries";
import type { components } from "../api/schema";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { CheckField } from "../parts/CheckField";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { Disclosure } from "../parts/Disclosure";
import { FieldInput, settingField } from "../parts/FieldInput";
import { QueryState } from "../parts/QueryState";
import { SecretNote } from "../parts/SecretNote";
import { SelectMenu } from "../parts/SelectMenu";
import { type Column, DataTable } from "../table/DataTable";
import { ago, count, plural, when } from "../words";

type Desk = components["schemas"]["DeskAnswer"];
type Settings = components["schemas"]["DeskSettingsRequest"];
type Link = components["schemas"]["DeskLinkAnswer"];
type Use = components["schemas"]["DeskUseAnswer"];
type State = components["schemas"]["AnswerWordsRequest"]["state"];

const SPANS = { "7": "a week", "30": "30 days", "90": "90 days", "365": "a year" };
const STATES = [
  { value: "", text: "nothing said" },
  { value: "fine", text: "fine" },
  { value: "look", text: "have a look" },
  { value: "act", text: "act" },
];

/** The page for people who only ask: what it shows, who may open it, and how often it is used. */
export function DeskView({ page }: { page: Page }) {
  const desk = useQuery({
    queryKey: ["desks", page.name],
    queryFn: async () => {
      try {
        return good(await api.GET("/api/desks/{endpoint}", { params: { path: { endpoint: page.name } } }));
      } catch (error) {
        if (error instanceof ProblemError && error.status === 404) return null;
        throw error;
      }
    },
  });
  return (
    <QueryState query={desk} loading="the desk" height={320}>
      {(found) => <DeskOf page={page} desk={found} />}
    </QueryState>
  );
}

function DeskOf({ page, desk }: { page: Page; desk: Desk | null }) {
  const inForce = desk?.links.filter(isInForce) ?? [];
  return (
    <>
      <p className="mt-4 text-lead text-soft">
        {desk === null
          ? "A desk is a page for people who only ask: a form, a file, a result. Say what it shows, then make a link for a group."
          : inForce.length
            ? `${plural(inForce.length, "link opens", "links open")} this desk; ${usedText(desk.uses)}.`
            : "Nobody can open this desk: it has no link in force."}
      </p>
      <div className="mt-4 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-4">
        <SettingsCard key={desk?.changed_at ?? "none"} page={page} desk={desk} />
        <div className="grid min-w-0 gap-4 [&>*]:min-w-0">
          <Links page={page} links={desk?.links ?? []} />
          {desk && desk.uses.length > 0 && <Uses uses={desk.uses} />}
        </div>
      </div>
    </>
  );
}

const isInForce = (link: Link): boolean => !link.revoked_at && (!link.expires_at || Date.parse(link.expires_at) > Date.now());

function usedText(uses: Use[]): string {
  const questions = uses.reduce((sum, use) => sum + use.questions, 0);
  const files = uses.reduce((sum, use) => sum + use.files, 0);
  return questions + files ? `${plural(questions, "question")} and ${plural(files, "file")} in the last 90 days` : "nobody has used it yet";
}

const mainAnswer = (page: Page) => page.answers.find((one) => ["choice", "yes/no", "number", "integer", "text"].includes(one.kind));

/** The first settings of a desk: every field and every answer under its own name. */
function firstSettings(page: Page): Settings {
  const answer = mainAnswer(page);
  const labels = answer?.kind === "yes/no" ? ["yes", "no"] : answer?.kind === "choice" ? answer.choices : [];
  return {
    title: page.name,
    introduction: "",
    use: "",
    answer: null,
    fields: Object.fromEntries(page.inputs.map((one) => [one.name, { label: one.name, hint: one.meaning, shown: true, value: null }])),
    options: {},
    answers: Object.fromEntries(labels.map((label) => [label, { text: label, state: null }])),
    ranges: [],
    keep_days: 30,
  };
}

function SettingsCard({ page, desk }: { page: Page; desk: Desk | null }) {
  const mayPoint = useMay("point");
  const [settings, setSettings] = useState<Settings>(() => ({ ...firstSettings(page), ...desk?.settings }));
  const save = useServiceChange("desks", async () =>
    good(await api.PUT("/api/desks/{endpoint}", { params: { path: { endpoint: page.name } }, body: settings })),
  );
  const change = (more: Partial<Settings>): void => setSettings((before) => ({ ...before, ...more }));
  const labels = Object.keys(firstSettings(page).answers ?? {});

  function submit(event: FormEvent): void {
    event.preventDefault();
    save.mutate();
  }

  return (
    <Card
      title="What it shows"
      aside={
        desk && (
          <a href={`../desk/${page.name}`} target="_blank" rel="noreferrer" className="text-small text-soft underline">
            look at the desk
          </a>
        )
      }
    >
      <form onSubmit={submit} aria-label="what the desk shows">
        <div className="grid gap-y-2">
          <FieldInput
            field={settingField({ name: "title", label: "title", kind: "text", oneLine: true })}
            entry={settings.title}
            onChange={(title) => change({ title: title ?? "" })}
          />
          <FieldInput
            field={settingField({ name: "introduction", label: "introduction", kind: "text" })}
            entry={settings.introduction ?? ""}
            onChange={(introduction) => change({ introduction: introduction ?? "" })}
          />
          <FieldInput
            field={settingField({ name: "use", label: "what it may be used for, and what not", kind: "text" })}
            entry={settings.use ?? ""}
            onChange={(use) => change({ use: use ?? "" })}
          />
          <FieldInput
            field={settingField({ name: "keep_days", label: "results of files stay, days", kind: "integer" })}
            entry={String(settings.keep_days)}
            onChange={(days) => change({ keep_days: Number(days) || 0 })}
          />
        </div>
        {labels.length > 0 && (
          <>
            <h3 className="mt-3 font-semibold">What answers are called</h3>
            <table className="mt-1 w-full">
              <tbody>
                {labels.map((label) => {
                  const words = settings.answers?.[label] ?? { text: label, state: null };
                  const set = (more: Partial<typeof words>): void =>
                    change({ answers: { ...settings.answers, [label]: { ...words, ...more } } });
                  return (
                    <tr key={label}>
                      <th scope="row" className="pr-3 text-left font-mono font-normal">
                        {label}
                      </th>
                      <td className="w-full py-1">
                        <input
                          className="control"
                          aria-label={`what ${label} is called`}
                          value={words.text}
                          onChange={(event) => set({ text: event.target.value })}
                        />
                      </td>
                      <td className="min-w-36 py-1 pl-2">
                        <SelectMenu
                          label={`what ${label} asks for`}
                          value={words.state ?? ""}
                          options={STATES}
                          onChange={(state) => set({ state: (state || null) as State })}
                        />
                      </td>
                    </tr>
                  );
                })}
              </tbody>
            </table>
          </>
        )}
        {mainAnswer(page)?.kind === "number" || mainAnswer(page)?.kind === "integer" ? (
          <RangeRows ranges={settings.ranges ?? []} onChange={(ranges) => change({ ranges })} />
        ) : null}
        <h3 className="mt-3 font-semibold">Fields in plain words</h3>
        <table className="mt-1 w-full">
          <thead className="text-left text-small text-faint">
            <tr>
              <th className="font-normal">field</th>
              <th className="font-normal">is called</th>
              <th className="font-normal">hint, or the value that is set</th>
              <th className="font-normal">asked for</th>
            </tr>
          </thead>
          <tbody>
            {page.inputs.map(({ name }) => {
              const words = settings.fields?.[name] ?? { label: null, hint: null, shown: true, value: null };
              const set = (more: Partial<typeof words>): void => change({ fields: { ...settings.fields, [name]: { ...words, ...more } } });
              return (
                <tr key={name}>
                  <th scope="row" className="max-w-40 truncate pr-3 text-left font-mono text-small font-normal">
                    {name}
                  </th>
                  <td className="py-1 pr-2">
                    <input
                      className="control"
                      aria-label={`what ${name} is called`}
                      value={words.label ?? ""}
                      placeholder={name}
                      onChange={(event) => set({ label: event.target.value || null })}
                    />
                  </td>
                  <td className="py-1 pr-2">
                    <input
                      className="control"
                      aria-label={words.shown ? `hint of ${name}` : `value of ${name}`}
                      value={(words.shown ? words.hint : words.value) ?? ""}
                      placeholder={words.shown ? "" : "its default"}
                      onChange={(event) => set(words.shown ? { hint: event.target.value || null } : { value: event.target.value || null })}
                    />
                  </td>
                  <td>
                    <CheckField checked={words.shown ?? true} onChange={(shown) => set({ shown })}>
                      <span className="sr-only">{name} is asked for</span>
                    </CheckField>
                  </td>
                </tr>
              );
            })}
          </tbody>
        </table>
        <Button kind="main" type="submit" className="mt-3" disabled={!mayPoint || save.isPending}>
          {save.isPending ? "Setting it …" : desk ? "Set" : "Make the desk"}
        </Button>
        {!mayPoint && <p className="mt-2 text-small text-faint">Only an operator may set it.</p>}
      </form>
      {save.error && (
        <div className="mt-3">
          <Trouble error={save.error} />
        </div>
      )}
      <Disclosure line="the same by command" className="mt-4">
        <Snippets
          id="the same by command"
          all={[
            {
              name: "command",
              text: `lamppost desk show ${page.name} --toml > desk.toml\nlamppost desk set ${page.name} desk.toml\nlamppost desk open ${page.name} --for 30d`,
            },
          ]}
        />
      </Disclosure>
    </Card>
  );
}

type NumberRange = NonNullable<Settings["ranges"]>[number];

/** What an answer that is a number means from some value upwards. */
function RangeRows({ ranges, onChange }: { ranges: NumberRange[]; onChange: (ranges: NumberRange[]) => void }) {
  const set = (place: number, more: Partial<NumberRange>): void =>
    onChange(ranges.map((range, at) => (at === place ? { ...range, ...more } : range)));
  const last = ranges[ranges.length - 1];
  return (
    <>
      <h3 className="mt-3 font-semibold">What numbers mean</h3>
      <table className="mt-1 w-full">
        <tbody>
          {ranges.map((range, at) => (
            <tr key={at}>
              <td className="w-40 py-1 pr-2">
                <span className="flex items-center gap-2">
                  from
                  <input
                    className="control"
                    type="number"
                    step="any"
                    aria-label={`range ${at + 1} begins at`}
                    value={range.least}
                    onChange={(event) => set(at, { least: event.target.valueAsNumber || 0 })}
                  />
                </span>
              </td>
              <td className="w-full py-1">
                <input
                  className="control"
                  aria-label={`what range ${at + 1} is called`}
                  value={range.text}
                  onChange={(event) => set(at, { text: event.target.value })}
                />
              </td>
              <td className="min-w-36 py-1 pl-2">
                <SelectMenu
                  label={`what range ${at + 1} asks for`}
                  value={range.state ?? ""}
                  options={STATES}
                  onChange={(state) => set(at, { state: (state || null) as State })}
                />
              </td>
              <td className="py-1 pl-2">
                <Button aria-label={`remove range ${at + 1}`} onClick={() => onChange(ranges.filter((_, place) => place !== at))}>
                  Remove
                </Button>
              </td>
            </tr>
          ))}
        </tbody>
      </table>
      <Button className="mt-1" onClick={() => onChange([...ranges, { least: last ? last.least + 1 : 0, text: "", state: null }])}>
        Add a range
      </Button>
    </>
  );
}

function Links({ page, links }: { page: Page; links: Link[] }) {
  const mayPoint = useMay("point");
  const [name, setName] = useState("");
  const [days, setDays] = useState("30");
  const params = { path: { endpoint: page.name } };
  const make = useServiceChange(
    "desks",
    async () =>
      good(await api.POST("/api/desks/{endpoint}/links", { params, body: { name: name.trim() || null, for_s: Number(days) * 86_400 } })),
    () => setName(""),
  );
  const inForce = links.filter(isInForce);
  const ended = links.length - inForce.length;
  const columns: Column<Link>[] = [
    { id: "link", value: (link) => link.name, cell: (link) => <Mono>{link.name}</Mono>, grow: true },
    { id: "used", value: (link) => link.last_used_at ?? "", cell: (link) => (link.last_used_at ? ago(link.last_used_at) : "never") },
    { id: "until", value: (link) => link.expires_at ?? "", cell: (link) => (link.expires_at ? day(link.expires_at) : "revoked") },
    { id: "end", head: null, cell: (link) => (mayPoint ? <End page={page} link={link} /> : null) },
  ];
  return (
    <Card title="Links">
      <form
        onSubmit={(event) => {
          event.preventDefault();
          make.mutate();
        }}
        aria-label="make a link"
        className="grid grid-cols-[minmax(0,1fr)_120px_auto] items-end gap-2"
      >
        <FieldInput
          field={settingField({ name: "name", label: "for whom", kind: "text", oneLine: true, placeholder: "lighting-office" })}
          entry={name}
          onChange={(entry) => setName(entry ?? "")}
        />
        <FieldInput
          field={settingField({ name: "for", label: "for", kind: "choice", choices: Object.keys(SPANS), choiceTexts: SPANS })}
          entry={days}
          onChange={(entry) => setDays(entry ?? "30")}
        />
        <Button type="submit" className="mb-5" disabled={!mayPoint || make.isPending}>
          {make.isPending ? "Making it …" : "Make a link"}
        </Button>
      </form>
      {make.error && <Trouble error={make.error} />}
      {make.data && (
        <SecretNote secret={make.data.link}>
          This link opens the desk and nothing else, until {make.data.expires_at ? when(make.data.expires_at) : "it is revoked"}. It is
          shown this once:
        </SecretNote>
      )}
      {inForce.length > 0 && (
        <div className="mt-3">
          <DataTable label="links" columns={columns} rows={inForce} rowKey={(link) => link.name} />
        </div>
      )}
      {ended > 0 && <p className="mt-2 text-small text-faint">{plural(ended, "link was", "links were")} revoked or expired.</p>}
    </Card>
  );
}

/** A day without its time. */
const day = (iso: string): string => iso.slice(0, 10);

function End({ page, link }: { page: Page; link: Link }) {
  const end = useServiceChange("desks", async () =>
    good(await api.DELETE("/api/desks/{endpoint}/links/{name}", { params: { path: { endpoint: page.name, name: link.name } } })),
  );
  return (
    <ConfirmDialog
      trigger={<Button>Revoke</Button>}
      title={`Revoke ${link.name}?`}
      command={`lamppost desk revoke ${page.name} ${link.name}`}
      confirm="Revoke"
      confirming="Revoking …"
      danger
      change={end}
    >
      Whoever has this link cannot open the desk any more, from now on. It cannot be given back; another link can be made.
    </ConfirmDialog>
  );
}

function Uses({ uses }: { uses: Use[] }) {
  const columns: Column<Use>[] = [
    { id: "day", value: (use) => use.day },
    { id: "link", value: (use) => use.link, cell: (use) => <Mono>{use.link}</Mono>, grow: true },
    { id: "questions", value: (use) => use.questions, cell: (use) => count(use.questions), numeric: true },
    { id: "files", value: (use) => use.files, cell: (use) => count(use.files), numeric: true },
    { id: "rows", value: (use) => use.rows, cell: (use) => count(use.rows), numeric: true },
  ];
  return (
    <Card title="Who used it how often">
      <DataTable label="uses" columns={columns} rows={uses} rowKey={(use) => `${use.day} ${use.link}`} height={320} />
    </Card>
  );
}
