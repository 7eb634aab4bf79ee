// Begins a sweep: of which version, at how many clients, within which limits.
import { useState } from "react";
import { useNavigate } from "react-router";
import { api, good } from "../api/client";
import { useVersions } from "../api/queries";
import { useServiceChange } from "../api/useServiceChange";
import { Button, Card, Snippets, Trouble } from "../parts/basics";
import { Given } from "../parts/Given";

const numbers = (text: string): number[] =>
  text
    .split(",")
    .map((part) => part.trim())
    .filter(Boolean)
    .map(Number);

export function StartSweep() {
  const versions = useVersions("").data ?? [];
  const navigate = useNavigate();
  const [version, setVersion] = useState("");
  const [clients, setClients] = useState("64");
  const [p99, setP99] = useState("50");
  const [memory, setMemory] = useState("");
  const [rows, setRows] = useState("");
  const [copies, setCopies] = useState("");
  const [minutes, setMinutes] = useState("5");

  const named = version
    .split(",")
    .map((one) => one.trim())
    .filter(Boolean);
  const limits = [...(p99.trim() ? [`p99=${p99.trim()}ms`] : []), ...(memory.trim() ? [`memory=${memory.trim()}MB`] : [])];
  const wrong =
    [...numbers(rows), ...numbers(copies), Number(clients), Number(minutes)].some((one) => !Number.isFinite(one)) || !named.length;
  const start = useServiceChange(
    "sweeps",
    async () =>
      good(
        await api.POST("/api/sweeps", {
          body: {
            plan: {
              versions: named,
              clients: Number(clients),
              request_rows: 1,
              limits,
              goal: "throughput",
              max_rows: numbers(rows),
              linger_ms: [],
              copies: numbers(copies),
              threads: [],
              forms: [],
              seconds: 2,
              whole_s: 60 * Number(minutes),
              rows: "the reference",
            },
          },
        }),
      ),
    (sweep) => void navigate(`/sweeps/${sweep.name}`),
  );
  const command = [
    `lamppost sweep ${named.join(" ") || "VERSION"} --clients ${clients}`,
    ...limits.map((limit) => `--limit ${limit}`),
    ...(rows.trim() ? [`--max-rows ${numbers(rows).join(",")}`] : []),
    ...(copies.trim() ? [`--copies ${numbers(copies).join(",")}`] : []),
    `--for ${minutes}min`,
  ].join(" ");
  const text = (value: string, set: (value: string) => void, placeholder: string) => (
    <input
      className="control font-mono"
      value={value}
      placeholder={placeholder}
      onChange={(event) => {
        set(event.target.value);
        start.reset();
      }}
    />
  );
  return (
    <Card
      title="Begin one"
      aside={<span className="text-small text-faint">it is measured beside the live lanes, and takes what they leave of the machine</span>}
    >
      <form
        aria-label="begin a sweep"
        className="grid gap-3"
        onSubmit={(event) => {
          event.preventDefault();
          if (!wrong) start.mutate();
        }}
      >
        <div className="grid grid-cols-3 gap-3 max-lg:grid-cols-1">
          <Given label="version" hint="two with a comma are measured over each other">
            <input
              className="control font-mono"
              list="sweep-versions"
              placeholder="outage-risk@5"
              value={version}
              onChange={(event) => {
                setVersion(event.target.value);
                start.reset();
              }}
            />
            <datalist id="sweep-versions">
              {versions.map((one) => (
                <option key={one.name} value={one.name} />
              ))}
            </datalist>
          </Given>
          <Given label="clients" hint="that ask at once, each waiting for its answer">
            {text(clients, setClients, "64")}
          </Given>
          <Given label="minutes" hint="after which nothing more is measured">
            {text(minutes, setMinutes, "5")}
          </Given>
          <Given label="p99 at most, ms" hint="it can be picked again with any other limit">
            {text(p99, setP99, "no limit")}
          </Given>
          <Given label="memory at most, MB" hint="of all copies together">
            {text(memory, setMemory, "no limit")}
          </Given>
          <Given label="rows of a batch" hint="values that are measured; copies likewise">
            <span className="flex gap-2">
              {text(rows, setRows, "16,64,256,1024")}
              <input
                className="control w-24! font-mono"
                aria-label="copies"
                placeholder="copies"
                value={copies}
                onChange={(event) => setCopies(event.target.value)}
              />
            </span>
          </Given>
        </div>
        {start.error && <Trouble error={start.error} />}
        <div>
          <Button kind="main" type="submit" disabled={wrong || start.isPending}>
            Begin
          </Button>
        </div>
        <Snippets id="begin a sweep" all={[{ name: "Command", text: command }]} />
      </form>
    </Card>
  );
}
