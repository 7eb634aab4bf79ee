import { type FormEvent, useState } from "react";
import { api, type Fault, good, type MadeToken, ProblemError, type Rotation, type Token } from "../api/client";
import { useOverview, useTokens } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Trouble } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { FieldInput, settingField } from "../parts/FieldInput";
import { QueryState } from "../parts/QueryState";
import { useToast } from "../parts/Toasts";
import { SecretNote } from "../parts/SecretNote";
import { type Column, DataTable } from "../table/DataTable";
import { ago, clock, count, plural } from "../words";

type Role = MadeToken["role"];
const KEEP_FORMER_S = 3_600;
const ROLES = {
  caller: ["asks endpoints, all or those named", "a service that needs answers"],
  viewer: ["looks", "somebody who follows an endpoint, a metrics scraper"],
  publisher: ["looks, asks, pushes packages", "the pipeline that trains models"],
  operator: ["looks, asks, pushes, points endpoints", "whoever is on duty"],
  reviewer: ["looks, asks, reviews", "whoever approves versions"],
  admin: ["everything, tokens too", "few"],
  desk: ["asks at one desk", "whoever holds its link, which the desk's page makes"],
  outpost: ["is one outpost", "a node far away; it gets its token when it is added"],
} as const satisfies Record<Role, readonly [string, string]>;
const TIMES = { "": "never", "1": "in a day", "30": "in 30 days", "90": "in 90 days", "365": "in a year" };

/** Who may ask and do what: made once, shown once, revoked at once. */
export function TokensPage() {
  const tokens = useTokens();
  const lasting = tokens.data?.filter((token) => stateOf(token) === "in force") ?? [];
  return (
    <>
      <h1 className="text-title font-semibold">Tokens</h1>
      <p className="mt-1 text-lead text-soft">
        {tokens.data ? `${plural(lasting.length, "token is", "tokens are")} in force${unused(lasting)}.` : "\u00a0"}
      </p>
      <div className="mt-6 grid grid-cols-[minmax(0,3fr)_minmax(0,2fr)] items-start gap-4">
        <Make />
        <Roles tokens={lasting} />
      </div>
      <div className="mt-4">
        <QueryState query={tokens} loading="tokens" height={160}>
          {(all) => <All tokens={all} />}
        </QueryState>
      </div>
    </>
  );
}

function unused(tokens: Token[]): string {
  const never = tokens.filter((token) => !token.last_used_at).length;
  return never ? `, ${count(never)} never used` : "";
}

function Roles({ tokens }: { tokens: Token[] }) {
  return (
    <Card title="Roles">
      <table className="figures w-full">
        <thead>
          <tr>
            <th scope="col">role</th>
            <th scope="col">may</th>
            <th scope="col" className="num">
              in force
            </th>
          </tr>
        </thead>
        <tbody>
          {Object.entries(ROLES).map(([role, [may, whom]]) => (
            <tr key={role}>
              <th scope="row" className="!text-body !text-ink">
                {role}
              </th>
              <td className="w-full py-1! whitespace-normal!">
                {may}
                <span className="block text-small text-faint">{whom}</span>
              </td>
              <td className="num">{count(tokens.filter((token) => token.role === role).length)}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

const EMPTY = { name: "", role: "caller", endpoints: "", expires_at: "", rate_per_s: "" };
type Entries = typeof EMPTY;

function Make() {
  const overview = useOverview("", true);
  const [entries, setEntries] = useState<Entries>(EMPTY);
  const { name, role, endpoints: only, expires_at: days, rate_per_s: rate } = entries;
  const make = useServiceChange(
    "token",
    async () =>
      good(
        await api.POST("/api/tokens", {
          body: {
            name: name.trim(),
            role: role as Role,
            endpoints: role === "caller" && only.trim() ? [only.trim()] : null,
            expires_at: days ? new Date(Date.now() + Number(days) * 86_400_000).toISOString() : null,
            rate_per_s: rate.trim() ? Number(rate) : null,
          },
        }),
      ),
    () => setEntries((before) => ({ ...before, name: "" })),
  );
  const fields = [
    settingField({ name: "name", label: "name", kind: "text", oneLine: true, placeholder: "billing-service" }),
    settingField({
      name: "role",
      label: "role",
      kind: "choice",
      choices: Object.keys(ROLES).filter((role) => role !== "desk" && role !== "outpost"),
    }),
    ...(role === "caller"
      ? [
          settingField({
            name: "endpoints",
            label: "endpoints",
            kind: "choice",
            unseen: "accept",
            choices: (overview.data?.shown ?? []).map((endpoint) => endpoint.name),
            placeholder: "all",
          }),
        ]
      : []),
    settingField({ name: "expires_at", label: "ends", kind: "choice", choices: Object.keys(TIMES), choiceTexts: TIMES }),
    settingField({ name: "rate_per_s", label: "calls a second, at most", kind: "number", placeholder: "any number" }),
  ];
  const faults = new Map<string, Fault>();
  for (const fault of make.error instanceof ProblemError ? make.error.faults : []) {
    const field = fields.find(({ name }) => fault.field?.split(".").includes(name));
    if (field) faults.set(field.name, fault);
  }
  if (rate.trim() && !(Number(rate) > 0)) faults.set("rate_per_s", { field: "rate_per_s", expected: "a number above 0" });
  const command = [
    `lamppost token new ${name.trim() || "NAME"} --role ${role}`,
    role === "caller" && only.trim() ? `--endpoint ${only.trim()}` : "",
    days ? `--expires ${days}d` : "",
    rate.trim() ? `--rate ${rate.trim()}` : "",
  ]
    .filter(Boolean)
    .join(" ");

  function submit(event: FormEvent): void {
    event.preventDefault();
    make.mutate();
  }

  return (
    <Card title="Make one" aside={<code className="text-small text-faint">{command}</code>}>
      <form onSubmit={submit} aria-label="make a token">
        <div className="grid grid-cols-2 gap-x-4 gap-y-2">
          {fields.map((field) => (
            <FieldInput
              key={field.name}
              field={field}
              entry={entries[field.name as keyof Entries]}
              fault={faults.get(field.name)}
              onChange={(entry) => {
                setEntries((before) => ({ ...before, [field.name]: entry ?? "" }));
                make.reset();
              }}
            />
          ))}
        </div>
        <Button kind="main" type="submit" className="mt-2" disabled={!name.trim() || make.isPending || faults.has("rate_per_s")}>
          {make.isPending ? "Making it …" : "Make"}
        </Button>
      </form>
      {make.error && !faults.size && (
        <div className="mt-3">
          <Trouble error={make.error} />
        </div>
      )}
      {make.data && (
        <SecretNote secret={make.data.secret}>
          <strong className="font-semibold">{make.data.name}</strong> is made. Its secret is shown this once:
        </SecretNote>
      )}
    </Card>
  );
}

/** onRotated : gets the new secret of a token. */
const columns = (onRotated: (rotated: Rotation) => void): Column<Token>[] => [
  { id: "token", width: 160, value: (token) => token.name, className: "font-mono" },
  { id: "role", width: 88, value: (token) => token.role },
  { id: "endpoints", grow: true, value: (token) => token.endpoints?.join(", ") ?? "all" },
  { id: "a second", numeric: true, value: (token) => token.rate_per_s, cell: (token) => token.rate_per_s ?? "any" },
  { id: "made", width: 104, value: (token) => token.made_at, cell: (token) => ago(token.made_at) },
  { id: "by", width: 104, value: (token) => token.made_by },
  {
    id: "last used",
    width: 104,
    value: (token) => token.last_used_at,
    cell: (token) => (token.last_used_at ? ago(token.last_used_at) : "never"),
  },
  { id: "state", width: 136, value: describeState },
  {
    id: "end it",
    head: null,
    numeric: true,
    width: 136,
    cell: (token) =>
      stateOf(token) === "in force" && (
        <span className="inline-flex gap-3">
          <Rotate name={token.name} onRotated={onRotated} />
          <Revoke name={token.name} />
        </span>
      ),
  },
];

function All({ tokens }: { tokens: Token[] }) {
  const [rotated, setRotated] = useState<Rotation | null>(null);
  return (
    <Card title="All of them" aside={<code className="text-small text-faint">lamppost token list</code>}>
      {rotated && (
        <div className="mb-3">
          <SecretNote secret={rotated.secret}>
            <strong className="font-semibold">{rotated.name}</strong> has a new secret, shown this once. The former one ends at{" "}
            {clock(rotated.former_until)}.
          </SecretNote>
        </div>
      )}
      <DataTable
        label="tokens"
        columns={columns(setRotated)}
        rows={tokens}
        rowKey={(token) => token.name}
        rowClass={(token) => (stateOf(token) === "in force" ? "" : "text-faint")}
      />
    </Card>
  );
}

function stateOf(token: Token): "in force" | "revoked" | "expired" {
  if (token.revoked_at) return "revoked";
  return token.expires_at && Date.parse(token.expires_at) <= Date.now() ? "expired" : "in force";
}

function describeState(token: Token): string {
  const state = stateOf(token);
  if (state === "revoked") return `revoked ${ago(token.revoked_at!)}`;
  if (state === "expired") return `expired ${ago(token.expires_at!)}`;
  return token.expires_at ? `until ${token.expires_at.slice(0, 10)}` : "in force";
}

/** Gives a token a new secret; the former one stays in force for an hour. */
function Rotate({ name, onRotated }: { name: string; onRotated: (rotated: Rotation) => void }) {
  const rotate = useServiceChange(
    "token",
    async () => good(await api.POST("/api/tokens/{name}/rotate", { params: { path: { name } }, body: { keep_former_s: KEEP_FORMER_S } })),
    onRotated,
  );
  return (
    <ConfirmDialog
      trigger={
        <button type="button" className="text-small text-soft underline hover:text-ink">
          rotate
        </button>
      }
      title={`Give ${name} a new secret?`}
      command={`lamppost token rotate ${name}`}
      confirm="Rotate it"
      leave="Keep the secret"
      change={rotate}
    >
      The new secret is shown once. The present one stays in force for an hour, so that whoever uses it can change over; then it ends.
      Browsers stay signed in.
    </ConfirmDialog>
  );
}

/** Ends a token; says beforehand what that does. It cannot be undone, only made anew. */
function Revoke({ name }: { name: string }) {
  const toast = useToast();
  const revoke = useServiceChange(
    "token",
    async () => good(await api.DELETE("/api/tokens/{name}", { params: { path: { name } } })),
    () => toast({ title: `${name} is revoked`, detail: "Every call with it is refused from now on." }),
  );
  return (
    <ConfirmDialog
      trigger={
        <button type="button" className="text-small text-soft underline hover:text-brick">
          revoke
        </button>
      }
      title={`Revoke ${name}?`}
      command={`lamppost token revoke ${name}`}
      confirm="Revoke it"
      leave="Keep it"
      danger
      change={revoke}
    >
      Every call with it is refused from now on, on every node, and browsers signed in with it are signed out. It cannot be taken back; a
      new token can be made.
    </ConfirmDialog>
  );
}
