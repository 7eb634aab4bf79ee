import { useMutation, useQueryClient } from "@tanstack/react-query";
import { useState } from "react";
import { api, good, ProblemError } from "../api/client";
import { useMay, useStated } from "../api/queries";
import { Button, Card, CopyButton, Mono, Trouble, Waiting } from "../parts/basics";
import { plural } from "../words";

/** All endpoints as one document: what is, what a changed one would do, and doing it. */
export function StatePage() {
  const stated = useStated();
  if (stated.error && !stated.data) return <Trouble error={stated.error} again={() => void stated.refetch()} />;
  return (
    <>
      <h1 className="text-title font-semibold">State</h1>
      <p className="mt-1 text-lead text-soft">
        {stated.data ? (
          <>
            {plural(Object.keys(stated.data.endpoints).length, "endpoint")} as one document; the state is <Mono className="text-ink">{stated.data.fingerprint}</Mono>.
          </>
        ) : (
          <>&nbsp;</>
        )}
      </p>
      {stated.data ? <Document key={stated.data.fingerprint} toml={stated.data.toml} /> : <Waiting height={480} label="loading the state" />}
    </>
  );
}

function Document({ toml }: { toml: string }) {
  const queries = useQueryClient();
  const may = useMay("point");
  const [typed, setTyped] = useState(toml);
  const plan = useMutation({ mutationFn: async () => good(await api.POST("/api/state/plan", { body: { toml: typed, break_callers: false } })) });
  const apply = useMutation({
    mutationFn: async (break_callers: boolean) => good(await api.POST("/api/state/apply", { body: { toml: typed, against: plan.data?.fingerprint ?? null, break_callers } })),
    onSuccess: () => void queries.invalidateQueries(),
  });
  const breaks = apply.error instanceof ProblemError && apply.error.message.includes("would refuse");
  const found = plan.data?.differences ?? [];
  return (
    <div className="mt-4 grid grid-cols-2 items-start gap-4 *:min-w-0">
      <Card title="The document" aside={<CopyButton text={typed} />}>
        <textarea
          aria-label="the document"
          className="h-[520px] w-full resize-y rounded-small border border-line bg-sunk p-3 font-mono text-small"
          spellCheck={false}
          value={typed}
          onChange={(event) => {
            setTyped(event.target.value);
            plan.reset();
            apply.reset();
          }}
        />
        <div className="mt-3 flex items-center gap-3">
          <Button kind={plan.data ? "quiet" : "main"} disabled={plan.isPending} onClick={() => plan.mutate()}>
            What would change?
          </Button>
          {typed !== toml && <Button onClick={() => setTyped(toml)}>As it is</Button>}
          <span className="text-small text-faint">keep it in a repository: lamppost state &gt; town.toml</span>
        </div>
      </Card>
      <Card title="What would change">
        {plan.error ? (
          <Trouble error={plan.error} />
        ) : !plan.data ? (
          <p className="text-soft">Change the document, then ask. Nothing happens before you apply it, and then all of it or nothing.</p>
        ) : !found.length ? (
          <p className="text-soft">Nothing: everything is so already.</p>
        ) : (
          <ul>
            {found.map((one) => (
              <li key={`${one.endpoint} ${one.key}`} className="border-t border-line py-1 font-mono text-small break-words">
                <span className="text-amber">{one.key ? "~" : "+"}</span> {one.says}
              </li>
            ))}
          </ul>
        )}
        {plan.data && plan.data.left.length > 0 && <p className="mt-2 text-small text-faint">Not in the document, and left as they are: {plan.data.left.join(", ")}</p>}
        {found.length > 0 && may && (
          <div className="mt-3 flex items-center gap-3">
            <Button kind="main" disabled={apply.isPending} onClick={() => apply.mutate(false)}>
              {apply.isPending ? "Opening and proving everything …" : `Apply to ${plural(new Set(found.map((one) => one.endpoint)).size, "endpoint")}`}
            </Button>
            {breaks && <Button onClick={() => apply.mutate(true)}>Do it anyway</Button>}
            <span className="text-small text-faint">all or nothing; refused if the state has changed since</span>
          </div>
        )}
        {apply.error && (
          <div className="mt-3">
            <Trouble error={apply.error} />
          </div>
        )}
      </Card>
    </div>
  );
}
