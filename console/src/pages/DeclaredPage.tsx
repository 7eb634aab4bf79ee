import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { api, BREAKS_CALLERS, good, ProblemError } from "../api/client";
import { useDeclared, useMay } from "../api/queries";
import { Button, Card, CopyButton, Mono, Trouble } from "../parts/basics";
import { Term } from "../parts/Tip";
import { QueryState } from "../parts/QueryState";
import { plural } from "../words";
import { useServiceChange } from "../api/useServiceChange";

/** All endpoints as one document: what is, what a changed one would do, and doing it. */
export function DeclaredPage() {
  const declared = useDeclared();
  return (
    <>
      <h1 className="text-title font-semibold">
        <Term word="declared document">Declared</Term>
      </h1>
      <p className="mt-1 text-lead text-soft">
        {declared.data ? (
          <>
            {plural(Object.keys(declared.data.endpoints).length, "endpoint")} as one document, as of{" "}
            <Mono className="text-ink">{declared.data.fingerprint}</Mono>.
          </>
        ) : (
          <>&nbsp;</>
        )}
      </p>
      <QueryState query={declared} loading="the document" height={480}>
        {(document) => <Document key={document.fingerprint} toml={document.toml} />}
      </QueryState>
    </>
  );
}

function Document({ toml }: { toml: string }) {
  const may = useMay("point");
  const [typed, setTyped] = useState(toml);
  const difference = useMutation({
    mutationFn: async () => good(await api.POST("/api/declared/difference", { body: { toml: typed, break_callers: false } })),
  });
  const carryOut = useServiceChange("endpoint", async (break_callers: boolean) =>
    good(await api.PUT("/api/declared", { body: { toml: typed, against: difference.data?.fingerprint ?? null, break_callers } })),
  );
  const breaks = carryOut.error instanceof ProblemError && carryOut.error.type === BREAKS_CALLERS;
  const found = difference.data?.differences ?? [];
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
            difference.reset();
            carryOut.reset();
          }}
        />
        <div className="mt-3 flex items-center gap-3">
          <Button kind={difference.data ? "quiet" : "main"} disabled={difference.isPending} onClick={() => difference.mutate()}>
            What would change?
          </Button>
          {typed !== toml && <Button onClick={() => setTyped(toml)}>As it is</Button>}
          <span className="text-small text-faint">keep it in a repository: lamppost declare --to town.toml</span>
        </div>
      </Card>
      <Card title="What would change">
        {difference.error ? (
          <Trouble error={difference.error} />
        ) : !difference.data ? (
          <p className="text-soft">
            Change the document, then ask. Nothing is changed until you carry it out, and then all of it or nothing.
          </p>
        ) : !found.length ? (
          <p className="text-soft">Nothing: every endpoint serves this already.</p>
        ) : (
          <ul>
            {found.map((one) => (
              <li key={`${one.endpoint} ${one.key}`} className="border-t border-line py-1 font-mono text-small break-words">
                <span className="text-amber">{one.key ? "~" : "+"}</span> {one.summary}
              </li>
            ))}
          </ul>
        )}
        {difference.data && difference.data.left.length > 0 && (
          <p className="mt-2 text-small text-faint">Not in the document, and left as they are: {difference.data.left.join(", ")}</p>
        )}
        {found.length > 0 && may && (
          <div className="mt-3 flex items-center gap-3">
            <Button kind="main" disabled={carryOut.isPending} onClick={() => carryOut.mutate(false)}>
              {carryOut.isPending
                ? "Opening and proving everything …"
                : `Carry out for ${plural(new Set(found.map((one) => one.endpoint)).size, "endpoint")}`}
            </Button>
            {breaks && <Button onClick={() => carryOut.mutate(true)}>Do it anyway</Button>}
            <span className="text-small text-faint">all or nothing; refused if an endpoint was changed since</span>
          </div>
        )}
        {carryOut.error && (
          <div className="mt-3">
            <Trouble error={carryOut.error} />
          </div>
        )}
      </Card>
    </div>
  );
}
