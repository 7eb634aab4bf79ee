import { useMutation, useQueryClient } from "@tanstack/react-query";
import { AlertDialog } from "radix-ui";
import { type FormEvent, type ReactNode, useState } from "react";
import { api, good, type Fault, type MadeToken, ProblemError, type Token } from "../api/client";
import { useEndpoints, useTokens } from "../api/queries";
import { Button, Card, CopyButton, Mono, Trouble, Waiting } from "../parts/basics";
import { ago, count, plural } from "../words";
import { SelectMenu } from "../parts/SelectMenu";

const ROLES = [
  ["caller", "asks endpoints, all or those named"],
  ["viewer", "looks"],
  ["publisher", "looks, asks, pushes packages"],
  ["operator", "looks, asks, pushes, points endpoints"],
  ["reviewer", "looks, asks, reviews"],
  ["admin", "everything, tokens too"],
] as const;
const TIMES = [
  ["", "never"],
  ["1", "in a day"],
  ["30", "in 30 days"],
  ["90", "in 90 days"],
  ["365", "in a year"],
] as const;

/** Who may ask and do what: made once, shown once, revoked at once. */
export function TokensPage() {
  const tokens = useTokens();
  if (tokens.error && !tokens.data) return <Trouble error={tokens.error} again={() => void tokens.refetch()} />;
  const lasting = tokens.data?.filter((one) => stateOf(one) === "in force") ?? [];
  return (
    <>
      <h1 className="text-title font-semibold">Tokens</h1>
      <p className="mt-1 text-lead text-soft">
        {tokens.data ? `${plural(lasting.length, "token is", "tokens are")} in force${unused(lasting)}.` : "\u00a0"}
      </p>
      <div className="mt-6 grid gap-4">
        <Make />
        {tokens.data ? <All tokens={tokens.data} /> : <Waiting height={160} label="loading tokens" />}
      </div>
    </>
  );
}

function unused(tokens: Token[]): string {
  const never = tokens.filter((one) => !one.last_used_at).length;
  return never ? `, ${count(never)} never used` : "";
}

function Make() {
  const queries = useQueryClient();
  const endpoints = useEndpoints();
  const [name, setName] = useState("");
  const [role, setRole] = useState("caller");
  const [only, setOnly] = useState("");
  const [days, setDays] = useState("");
  const [rate, setRate] = useState("");
  const make = useMutation({
    mutationFn: async () =>
      good(
        await api.POST("/api/tokens", {
          body: {
            name: name.trim(),
            role: role as MadeToken["role"],
            endpoints: role === "caller" && only ? [only] : null,
            expires_at: days ? new Date(Date.now() + Number(days) * 86_400_000).toISOString() : null,
            rate_per_s: rate.trim() ? Number(rate) : null,
          },
        }),
      ),
    onSuccess: () => {
      setName("");
      void queries.invalidateQueries({ queryKey: ["tokens"] });
    },
  });
  const command = [
    `lamppost token new ${name.trim() || "NAME"} --role ${role}`,
    role === "caller" && only ? `--endpoint ${only}` : "",
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
      <form onSubmit={submit} aria-label="make a token" className="flex items-end gap-3 flex-wrap">
        <Labelled text="name" grow>
          <input
            className="control"
            value={name}
            placeholder="billing-service"
            required
            spellCheck={false}
            autoComplete="off"
            onChange={(event) => setName(event.target.value)}
          />
        </Labelled>
        <Labelled text="role">
          <SelectMenu label="role" value={role} onChange={setRole} options={ROLES.map(([value]) => ({ value }))} />
        </Labelled>
        <Labelled text="endpoints">
          <SelectMenu
            label="endpoints"
            value={role === "caller" ? only : ""}
            disabled={role !== "caller"}
            onChange={setOnly}
            options={[{ value: "", text: "all" }, ...(endpoints.data ?? []).map((one) => ({ value: one.name }))]}
          />
        </Labelled>
        <Labelled text="ends">
          <SelectMenu label="ends" value={days} onChange={setDays} options={TIMES.map(([value, text]) => ({ value, text }))} />
        </Labelled>
        <Labelled text="a second, at most">
          <input
            className="control"
            inputMode="decimal"
            value={rate}
            placeholder="any number"
            onChange={(event) => setRate(event.target.value)}
          />
        </Labelled>
        <Button kind="main" type="submit" disabled={make.isPending}>
          Make
        </Button>
      </form>
      <p className="mt-2 text-small text-faint">{ROLES.find(([one]) => one === role)?.[1]}</p>
      {make.error && (
        <p role="alert" className="mt-3 text-brick">
          {make.error instanceof ProblemError && make.error.faults.length ? make.error.faults.map(sayFault).join("; ") : make.error.message}
        </p>
      )}
      {make.data && (
        <div className="mt-3 rounded-small border border-amber bg-amber-wash p-3" role="status">
          <p>
            <strong className="font-semibold">{make.data.name}</strong> is made. Its secret is shown this once:
          </p>
          <p className="mt-1 flex items-baseline gap-3">
            <Mono className="break-all">{make.data.secret}</Mono>
            <CopyButton text={make.data.secret} />
          </p>
        </div>
      )}
    </Card>
  );
}

const sayFault = (fault: Fault): string => `${fault.field ?? ""}: ${fault.expected}`;

const Labelled = ({ text, grow = false, children }: { text: string; grow?: boolean; children: ReactNode }) => (
  <label className={`grid gap-1 ${grow ? "flex-1" : "w-36"}`}>
    <span className="text-small text-faint">{text}</span>
    {children}
  </label>
);

function All({ tokens }: { tokens: Token[] }) {
  const queries = useQueryClient();
  const revoke = useMutation({
    mutationFn: async (name: string) => good(await api.DELETE("/api/tokens/{name}", { params: { path: { name } } })),
    onSettled: () => void queries.invalidateQueries({ queryKey: ["tokens"] }),
  });
  return (
    <Card title="All of them" aside={<code className="text-small text-faint">lamppost token list</code>}>
      {revoke.error && (
        <p role="alert" className="mb-2 text-brick">
          {revoke.error.message}
        </p>
      )}
      <table className="figures w-full">
        <thead>
          <tr>
            <th>token</th>
            <th>role</th>
            <th className="w-full">endpoints</th>
            <th className="num">a second</th>
            <th>made</th>
            <th>by</th>
            <th>last used</th>
            <th>state</th>
            <th>
              <span className="sr-only">end it</span>
            </th>
          </tr>
        </thead>
        <tbody>
          {tokens.map((one) => (
            <tr key={one.name} className={stateOf(one) === "in force" ? "" : "text-faint"}>
              <td className="font-mono">{one.name}</td>
              <td>{one.role}</td>
              <td>{one.endpoints?.join(", ") ?? "all"}</td>
              <td className="num">{one.rate_per_s ?? "any"}</td>
              <td title={one.made_at}>{ago(one.made_at)}</td>
              <td>{one.made_by}</td>
              <td>{one.last_used_at ? ago(one.last_used_at) : "never"}</td>
              <td>{sayState(one)}</td>
              <td className="num">{stateOf(one) === "in force" && <Revoke name={one.name} onRevoke={() => revoke.mutate(one.name)} />}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

function stateOf(token: Token): "in force" | "revoked" | "expired" {
  if (token.revoked_at) return "revoked";
  return token.expires_at && Date.parse(token.expires_at) <= Date.now() ? "expired" : "in force";
}

function sayState(token: Token): string {
  const state = stateOf(token);
  if (state === "revoked") return `revoked ${ago(token.revoked_at!)}`;
  if (state === "expired") return `expired ${ago(token.expires_at!)}`;
  return token.expires_at ? `until ${token.expires_at.slice(0, 10)}` : "in force";
}

/** Ends a token; says beforehand what that does. It cannot be undone, only made anew. */
function Revoke({ name, onRevoke }: { name: string; onRevoke: () => void }) {
  return (
    <AlertDialog.Root>
      <AlertDialog.Trigger asChild>
        <button type="button" className="text-small text-soft underline hover:text-brick">
          revoke
        </button>
      </AlertDialog.Trigger>
      <AlertDialog.Portal>
        <AlertDialog.Overlay className="fixed inset-0 z-30 bg-[rgb(10_14_19/0.45)]" />
        <AlertDialog.Content className="fixed top-[24vh] left-1/2 z-40 w-[440px] -translate-x-1/2 rounded-card border border-line bg-card p-5 shadow-xl">
          <AlertDialog.Title className="text-lead font-semibold">Revoke {name}?</AlertDialog.Title>
          <AlertDialog.Description className="mt-2 text-soft">
            Every call with it is refused from now on, on every node, and browsers signed in with it are signed out. It cannot be taken
            back; a new token can be made.
          </AlertDialog.Description>
          <p className="mt-2 font-mono text-small text-faint">lamppost token revoke {name}</p>
          <div className="mt-4 flex justify-end gap-2">
            <AlertDialog.Cancel asChild>
              <Button>Keep it</Button>
            </AlertDialog.Cancel>
            <AlertDialog.Action asChild>
              <Button className="border-brick! text-brick!" onClick={onRevoke}>
                Revoke it
              </Button>
            </AlertDialog.Action>
          </div>
        </AlertDialog.Content>
      </AlertDialog.Portal>
    </AlertDialog.Root>
  );
}
