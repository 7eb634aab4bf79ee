import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Agreement, api, good } from "../api/client";
import { useEndpoints } from "../api/queries";
import { count, ms, short, show } from "../words";
import { Button, Card, Mono, Trouble } from "./basics";
import { SelectMenu } from "./SelectMenu";

/** Both versions on the same rows: how far do their answers agree, and where do they not? */
export function SameRows({ before, after }: { before: string; after: string }) {
  const endpoints = useEndpoints();
  const serving = (endpoints.data ?? []).filter(
    (one) => one.versions.some((name) => name.split("@")[0] === before.split("@")[0]) && one.last_hour,
  );
  const [on, setOn] = useState("");
  const compare = useMutation({
    mutationFn: async () =>
      good(
        await api.POST("/api/compare/answers", {
          body: { before, after, last: 500, ...(on ? { endpoint: on } : { proof: true }) } as never,
        }),
      ),
  });
  return (
    <Card
      title="On the same rows"
      className="mt-4"
      aside={<code className="text-small text-faint">{`lamppost compare ${before} ${after}${on ? ` --endpoint ${on}` : ""}`}</code>}
    >
      <div className="flex items-end gap-3">
        <div className="grid gap-1 text-small text-soft">
          rows
          <SelectMenu
            label="rows"
            className="w-80"
            value={on}
            onChange={setOn}
            options={[
              { value: "", text: `the proof of ${before}` },
              ...serving.map((one) => ({ value: one.name, text: `the last 500 calls to ${one.name}` })),
            ]}
          />
        </div>
        <Button kind="main" disabled={compare.isPending} onClick={() => compare.mutate()}>
          {compare.isPending ? "Asking both …" : "Ask both"}
        </Button>
        <span className="pb-1 text-small text-faint">behind all live calls; nothing is recorded</span>
      </div>
      {compare.error && (
        <div className="mt-3">
          <Trouble error={compare.error} />
        </div>
      )}
      {compare.data && <Found said={compare.data} />}
    </Card>
  );
}

function Found({ said }: { said: Agreement }) {
  return (
    <>
      <p className="mt-4 text-lead">{said.summary}</p>
      <p className="mt-1 text-soft">
        {said.mean !== null && `${said.by}: mean ${short(said.mean)}, 95 % below ${short(said.p95 ?? 0)}, most ${short(said.most ?? 0)}. `}
        <Mono className="text-slate">{said.before}</Mono> took {ms(said.before_ms)} ms, <Mono className="text-amber">{said.after}</Mono>{" "}
        {ms(said.after_ms)} ms.
      </p>
      <div className="mt-3 grid grid-cols-2 gap-8">
        {said.flips.length > 0 && (
          <table className="figures">
            <thead>
              <tr>
                <th>was</th>
                <th>is</th>
                <th className="num">rows</th>
              </tr>
            </thead>
            <tbody>
              {said.flips.slice(0, 8).map((flip) => (
                <tr key={`${flip.before} ${flip.after}`}>
                  <td className="text-slate">{flip.before}</td>
                  <td className="text-amber">{flip.after}</td>
                  <td className="num">{count(flip.rows)}</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
        {said.slices.length > 0 && (
          <table className="figures">
            <thead>
              <tr>
                <th>where they agree least</th>
                <th className="num">rows</th>
                <th className="num">agree</th>
              </tr>
            </thead>
            <tbody>
              {said.slices.slice(0, 8).map((slice) => (
                <tr key={`${slice.field} ${slice.value}`}>
                  <td>
                    {slice.field} = <Mono>{slice.value}</Mono>
                  </td>
                  <td className="num">{count(slice.rows)}</td>
                  <td className="num">{((100 * slice.agree) / slice.rows).toFixed(1)} %</td>
                </tr>
              ))}
            </tbody>
          </table>
        )}
      </div>
      {said.worst.length > 0 && (
        <table className="figures mt-4 w-full table-fixed">
          <thead>
            <tr>
              <th>rows that differ most</th>
              <th className="w-72">{said.before}</th>
              <th className="w-72">{said.after}</th>
            </tr>
          </thead>
          <tbody>
            {said.worst.slice(0, 8).map((one, at) => (
              <tr key={at}>
                <td className="truncate font-mono text-small" title={JSON.stringify(one.row)}>
                  {JSON.stringify(one.row)}
                </td>
                <td className="truncate font-mono text-small text-slate" title={JSON.stringify(one.before)}>
                  {brief(one.before)}
                </td>
                <td className="truncate font-mono text-small text-amber" title={JSON.stringify(one.after)}>
                  {brief(one.after)}
                </td>
              </tr>
            ))}
          </tbody>
        </table>
      )}
    </>
  );
}

/** An answer on one line: the label with its score, or the values. */
function brief(answer: Record<string, unknown>): string {
  const { label, scores, ...rest } = answer as { label?: unknown; scores?: Record<string, number> };
  if (label !== undefined) return `${String(label)}${scores ? ` ${show(scores[String(label)])}` : ""}`;
  return Object.entries({ ...rest, ...(scores ? { scores } : {}) })
    .map(([name, value]) => `${name} ${show(value)}`)
    .join(", ");
}
