import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { type Agreement, api, good } from "../api/client";
import { useOverview } from "../api/queries";
import { count, ms, short, show } from "../words";
import { Button, Card, Mono, Trouble } from "./basics";
import { type Column, DataTable } from "../table/DataTable";
import { SelectMenu } from "./SelectMenu";

/** Both versions on the same rows: how far do their answers agree, and where do they not? */
export function SameRows({ before, after }: { before: string; after: string }) {
  const overview = useOverview(before.split("@")[0], true);
  const serving = (overview.data?.shown ?? []).filter(
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
      <div className="flex flex-wrap items-end gap-3">
        <div className="grid gap-1 text-small text-soft">
          rows
          <SelectMenu
            label="rows"
            className="w-80 max-w-full"
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
      {compare.data && <Found agreement={compare.data} />}
    </Card>
  );
}

const FLIP_COLUMNS: Column<Agreement["flips"][number]>[] = [
  { id: "was", grow: true, value: (flip) => flip.before, className: "text-slate" },
  { id: "is", width: 160, value: (flip) => flip.after, className: "text-amber" },
  { id: "rows", numeric: true, value: (flip) => flip.rows, cell: (flip) => count(flip.rows) },
];
const SLICE_COLUMNS: Column<Agreement["slices"][number]>[] = [
  { id: "where they agree least", grow: true, value: (slice) => `${slice.field} = ${slice.value}`, className: "font-mono" },
  { id: "rows", numeric: true, value: (slice) => slice.rows, cell: (slice) => count(slice.rows) },
  {
    id: "agree",
    numeric: true,
    value: (slice) => slice.agree / slice.rows,
    cell: (slice) => `${((100 * slice.agree) / slice.rows).toFixed(1)} %`,
  },
];
const worstColumns = (agreement: Agreement): Column<Agreement["worst"][number]>[] => [
  { id: "row", grow: true, value: (row) => JSON.stringify(row.row), className: "font-mono text-small" },
  { id: agreement.before, width: 200, value: (row) => brief(row.before), className: "font-mono text-small text-slate" },
  { id: agreement.after, width: 200, value: (row) => brief(row.after), className: "font-mono text-small text-amber" },
];

function Found({ agreement }: { agreement: Agreement }) {
  return (
    <>
      <p className="mt-4 text-lead">{agreement.summary}</p>
      <p className="mt-1 text-soft">
        {agreement.mean !== null &&
          `${agreement.by}: mean ${short(agreement.mean)}, 95 % below ${short(agreement.p95 ?? 0)}, most ${short(agreement.most ?? 0)}. `}
        <Mono className="text-slate">{agreement.before}</Mono> took {ms(agreement.before_ms)} ms,{" "}
        <Mono className="text-amber">{agreement.after}</Mono> {ms(agreement.after_ms)} ms.
      </p>
      <div className="mt-3 grid grid-cols-2 gap-8">
        {agreement.flips.length > 0 && (
          <DataTable
            label="answers that changed"
            columns={FLIP_COLUMNS}
            rows={agreement.flips}
            rowKey={(flip) => `${flip.before} ${flip.after}`}
            height={300}
          />
        )}
        {agreement.slices.length > 0 && (
          <DataTable
            label="where they agree least"
            columns={SLICE_COLUMNS}
            rows={agreement.slices}
            rowKey={(slice) => `${slice.field} ${slice.value}`}
            height={300}
          />
        )}
      </div>
      {agreement.worst.length > 0 && (
        <div className="mt-4">
          <h3 className="mb-1 font-semibold">Rows that differ most</h3>
          <DataTable
            label="rows that differ most"
            columns={worstColumns(agreement)}
            rows={agreement.worst}
            rowKey={(row) => String(agreement.worst.indexOf(row))}
            rowName={(row) => `row ${agreement.worst.indexOf(row)}`}
            details={(row) => <pre className="font-mono text-small whitespace-pre-wrap">{JSON.stringify(row, null, 1)}</pre>}
          />
        </div>
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
