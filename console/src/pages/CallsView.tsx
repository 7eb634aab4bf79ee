import { useDeferredValue, useState } from "react";
import { useSearchParams } from "react-router";
import type { EndpointPage } from "../api/client";
import { type Sought, useSoughtCalls } from "../api/queries";
import { Button, Mono, Trouble, Waiting } from "../parts/basics";
import { CallsTable } from "../parts/CallsTable";
import { when } from "../words";

/** The calls themselves: found by what is in them, by how odd, slow or wrong they were. */
export function CallsView({ page }: { page: EndpointPage }) {
  const [params, setParams] = useSearchParams();
  const [typed, setTyped] = useState(params.get("contains") ?? "");
  const contains = useDeferredValue(typed.trim());
  const number = (name: string): number | undefined => (params.get(name) ? Number(params.get(name)) : undefined);
  const sought: Sought = {
    ...(contains.length > 1 && { contains }),
    ...(number("odd") !== undefined && { odd: number("odd") }),
    ...(number("status") !== undefined && { status: number("status") }),
    ...(number("slower") !== undefined && { slower_ms: number("slower") }),
    ...(params.get("before") && { before: params.get("before")! }),
  };
  const calls = useSoughtCalls(page.name, sought);
  const found = calls.data;
  function set(name: string, value: string | null): void {
    const next = new URLSearchParams(params);
    if (value) next.set(name, value);
    else next.delete(name);
    if (name !== "before") next.delete("before");
    setParams(next, { replace: true });
  }
  const toggle = (name: string, value: string, text: string) => (
    <Button
      aria-pressed={params.get(name) === value}
      onClick={() => set(name, params.get(name) === value ? null : value)}
      className={params.get(name) === value ? "border-amber! font-semibold" : ""}
    >
      {text}
    </Button>
  );
  const command = [
    "lamppost tail",
    page.name,
    contains.length > 1 && `--contains '${contains}'`,
    sought.odd !== undefined && `--odd ${sought.odd}`,
    sought.status && `--status ${sought.status}`,
    sought.slower_ms && `--slower ${sought.slower_ms}`,
    "--follow",
  ]
    .filter(Boolean)
    .join(" ");
  return (
    <>
      <div className="mt-4 flex items-center gap-3">
        <input
          className="control max-w-80"
          aria-label="search calls"
          placeholder="a value in the input or answer"
          value={typed}
          onChange={(event) => setTyped(event.target.value)}
        />
        {toggle("odd", "3", "odd")}
        {toggle("status", "400", "refused or failed")}
        {toggle("status", "500", "failed")}
        <label className="flex items-center gap-2 text-soft">
          slower than
          <input
            className="control w-20!"
            inputMode="decimal"
            aria-label="slower than, ms"
            value={params.get("slower") ?? ""}
            onChange={(event) => /^\d*\.?\d*$/.test(event.target.value) && set("slower", event.target.value)}
          />{" "}
          ms
        </label>
      </div>
      {params.get("before") && (
        <p className="mt-2 text-soft">
          Before {when(params.get("before")!)}.{" "}
          <button type="button" className="underline hover:text-ink" onClick={() => set("before", null)}>
            Back to the newest
          </button>
        </p>
      )}
      <section className="mt-4 rounded-card border border-line bg-card p-4" aria-label="calls">
        {calls.error && !found ? (
          <Trouble error={calls.error} />
        ) : !found ? (
          <Waiting height={320} label="loading calls" />
        ) : found.length ? (
          <CallsTable calls={found} />
        ) : (
          <p className="text-soft">There are no such calls.</p>
        )}
      </section>
      <div className="mt-3 flex items-center justify-between">
        <Mono className="text-small text-faint">{command}</Mono>
        {found && found.length === 100 && <Button onClick={() => set("before", found[found.length - 1]!.at)}>Older</Button>}
      </div>
    </>
  );
}
