import { useMutation } from "@tanstack/react-query";
import { useState } from "react";
import { Link, useParams } from "react-router";
import { askVersion, type CallPage as Page } from "../api/client";
import { useCall, useEndpoint, useMay, useModelVersions } from "../api/queries";
import { ExplanationCard } from "../explanation/ExplanationCard";
import { Button, Card, CopyButton, Mono, Trouble } from "../parts/basics";
import { Bar } from "../parts/Bar";
import { QueryState } from "../parts/QueryState";
import { VersionLink } from "../parts/VersionLink";
import { ago, clock, ms, plural } from "../words";
import { SelectMenu } from "../parts/SelectMenu";

const MOST_ROWS = 100;

/** One call: what went in, what came back, where the time went, and what another version says to the same. */
export function CallPage() {
  const { id = "" } = useParams();
  const call = useCall(id);
  return (
    <QueryState query={call} loading="the call" height={480}>
      {(found) => <Found call={found} />}
    </QueryState>
  );
}

function Found({ call }: { call: Page }) {
  const mayRead = useMay("push");
  const mayAsk = useMay("predict");
  return (
    <>
      <h1 className="flex items-baseline gap-3 font-mono text-title font-semibold">
        {call.request_id.slice(0, 18)}… <CopyButton text={call.request_id} />
      </h1>
      <p className="mt-1 text-lead text-soft">
        {call.status < 400 ? "Answered" : <span className="text-brick">Refused with {call.status}</span>} by{" "}
        {call.version ? <VersionLink name={call.version.split(", ")[0]!} live /> : "nothing"} in {ms(call.total_us / 1000)} ms, asked of{" "}
        <Link to={`/endpoints/${call.endpoint}`} className="hover:underline">
          {call.endpoint}
        </Link>{" "}
        by {call.token ?? "nobody"} {ago(call.at)}, at {clock(call.at)}.{" "}
        {mayRead && (
          <Link to={`/logs?request=${call.request_id}`} className="underline hover:text-ink">
            What was logged
          </Link>
        )}
      </p>
      {call.odd_reason && (
        <p className="mt-1 text-amber">
          Odd ({call.odd?.toFixed(1)}): {call.odd_reason}. At 3, one row of a thousand is as odd by chance.
        </p>
      )}
      {call.brought_by && <p className="mt-1 text-soft">It was answered elsewhere: {call.brought_by}.</p>}
      <Phases page={call} />
      <div className="mt-4 grid grid-cols-2 items-start gap-4 *:min-w-0">
        <Body title="What went in" value={call.input} />
        <Body title="What came back" value={call.answer} />
      </div>
      {call.shadows.map((one) => (
        <div key={one.version} className="mt-4">
          <Body title={`What the shadow ${one.version} answered, in ${ms(one.total_us / 1000)} ms`} value={one.answer} />
        </div>
      ))}
      {mayAsk && call.status === 200 && call.input !== null && typeof call.input === "object" && <Explained call={call} />}
      {call.input !== null && typeof call.input === "object" && <Replay page={call} />}
    </>
  );
}

/** The answer to one of its rows explained, by the version that gave it. */
function Explained({ call }: { call: Page }) {
  const [row, setRow] = useState(0);
  const endpoint = useEndpoint(call.endpoint);
  const rows = Math.min(call.rows, MOST_ROWS);
  return (
    <>
      {rows > 1 && (
        <p className="mt-4 flex items-center gap-2">
          Explain row
          <SelectMenu
            label="row to explain"
            className="w-32"
            value={String(row)}
            onChange={(chosen) => setRow(Number(chosen))}
            options={Array.from({ length: rows }, (_, at) => ({ value: String(at) }))}
          />
        </p>
      )}
      {endpoint.data && (
        <ExplanationCard
          endpoint={call.endpoint}
          served={0}
          of={{ call: call.request_id, at_row: row }}
          inputs={endpoint.data.inputs}
          command={`lamppost explain ${call.endpoint} --call ${call.request_id}`}
        />
      )}
    </>
  );
}

function Phases({ page }: { page: Page }) {
  const all = Object.entries(page.phases_us);
  const whole = Math.max(
    1,
    all.reduce((sum, [, us]) => sum + us, 0),
  );
  return (
    <Card
      title="Where the time went"
      className="mt-4"
      aside={
        <span className="text-small text-faint">
          {plural(page.rows, "row")}
          {page.batch_rows ? `, ${page.batch_rows} in its batch` : ""}
        </span>
      }
    >
      <table className="figures w-full">
        <tbody>
          {all.map(([name, us]) => (
            <tr key={name}>
              <th scope="row" className="w-24">
                {name}
              </th>
              <td className="num w-24 font-mono">{ms(us / 1000)} ms</td>
              <td className="!pl-4">
                <Bar className="h-3!" tone="live" part={us / whole} least={0.002} label={`${name} of the whole`} />
              </td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}

const Body = ({ title, value }: { title: string; value: unknown }) => (
  <Card title={title} aside={value === null ? undefined : <CopyButton text={JSON.stringify(value)} />}>
    <pre className="max-h-80 overflow-auto rounded-small bg-sunk p-3 font-mono text-small whitespace-pre-wrap break-words">
      {value === null ? "not kept" : JSON.stringify(value, null, 1)}
    </pre>
  </Card>
);

/** A recorded request without what recording put beside rows that did not travel as JSON. */
function asSent(input: Page["input"]): unknown {
  if (input === null || typeof input !== "object" || !("rows" in input)) return input;
  return Object.fromEntries(Object.entries(input).filter(([key]) => key !== "content_type" && key !== "left_out"));
}

function Replay({ page }: { page: Page }) {
  const model = page.version?.split("@")[0];
  const versions = useModelVersions(model ? [model] : []);
  const all = (versions.data ?? []).filter((one) => one.model === model && one.proof !== "failed");
  const [chosen, setChosen] = useState("");
  const version = chosen || all[0]?.name || "";
  const replay = useMutation({
    mutationFn: async () => {
      const [name, number] = version.split("@");
      return askVersion(name!, Number(number), JSON.stringify(asSent(page.input)));
    },
  });
  return (
    <Card
      title="The same, asked of another version"
      className="mt-4"
      aside={<code className="text-small text-faint">{`lamppost call ${page.request_id} --replay ${version}`}</code>}
    >
      <div className="flex items-end gap-3">
        <SelectMenu
          label="version to ask"
          className="w-56"
          value={version}
          onChange={setChosen}
          options={all.map((one) => ({ value: one.name }))}
        />
        <Button kind="main" disabled={!version || replay.isPending} onClick={() => replay.mutate()}>
          {replay.isPending ? "Asking …" : "Ask it"}
        </Button>
        <span className="text-small text-faint">nothing is recorded</span>
      </div>
      {replay.error && (
        <div className="mt-3">
          <Trouble error={replay.error} />
        </div>
      )}
      {replay.data && (
        <p className="mt-3">
          <Mono className="text-amber">{replay.data.version}</Mono> says, in {ms(replay.data.took_ms)} ms:
          <Mono className="mt-2 block rounded-small bg-sunk p-3 text-small whitespace-pre-wrap">
            {JSON.stringify(replay.data.answers, null, 1)}
          </Mono>
        </p>
      )}
    </Card>
  );
}
