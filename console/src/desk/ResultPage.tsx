import { useMutation, useQueryClient } from "@tanstack/react-query";
import { Download } from "lucide-react";
import { useState } from "react";
import { Link, useNavigate, useParams } from "react-router";
import { api, good } from "../api/client";
import { Bar } from "../parts/Bar";
import { Button, CopyButton, Trouble, Waiting } from "../parts/basics";
import { ConfirmDialog } from "../parts/ConfirmDialog";
import { count, plural, when } from "../words";
import { type DeskPage, fileAddress, isUnderWay, type Result, useResult } from "./queries";
import { RejectTable } from "./RejectTable";
import { ResultTable } from "./ResultTable";
import { StateMark } from "./StateMark";

/** How far a file is, how often each answer was given, and its rows. */
export function ResultPage({ endpoint, desk }: { endpoint: string; desk: DeskPage }) {
  const { name = "" } = useParams();
  const result = useResult(endpoint, name);
  const [answer, setAnswer] = useState<string | null>(null);
  if (result.error) return <Trouble error={result.error} />;
  if (!result.data) return <Waiting height={320} label="looking for the result" />;
  const found = result.data;
  return (
    <div className="mt-4 grid gap-6">
      <Head endpoint={endpoint} result={found} />
      {isUnderWay(found) && <UnderWay result={found} />}
      {(found.state === "failed" || found.state === "stopped") && (
        <p role="alert" className="rounded-card border border-brick bg-brick-wash p-4 break-words">
          The file was not answered: {found.reason}
        </p>
      )}
      {found.counts.length > 0 && <Counts result={found} chosen={answer} onChoose={setAnswer} />}
      {found.state === "finished" && found.rows > found.rejects && (
        <ResultTable key={name} endpoint={endpoint} result={found} answer={answer} onAnswer={setAnswer} />
      )}
      {found.rejects > 0 && (
        <section aria-label="without an answer" className="rounded-card border border-line bg-card p-4">
          <h2 className="font-semibold">{plural(found.rejects, "row")} without an answer</h2>
          <p className="mt-1 text-soft">
            Mend them in your file and bring it again. The XLSX file has all of them on a sheet of their own.
          </p>
          <RejectTable rejects={found.first_rejects} all={found.rejects} desk={desk} />
        </section>
      )}
    </div>
  );
}

function Head({ endpoint, result }: { endpoint: string; result: Result }) {
  const queries = useQueryClient();
  const navigate = useNavigate();
  const remove = useMutation({
    mutationFn: async () =>
      good(await api.DELETE("/api/desk/{endpoint}/results/{name}", { params: { path: { endpoint, name: result.name } } })),
    onSuccess: () => {
      void queries.invalidateQueries({ queryKey: ["desk", endpoint, "results"], exact: true });
      void navigate("../file");
    },
  });
  return (
    <div>
      <div className="flex flex-wrap items-start justify-between gap-3">
        <div className="min-w-0">
          <h2 className="text-lead font-semibold break-all">{result.file_name}</h2>
          <p className="text-small text-soft">
            brought {when(result.made_at)}
            {result.keep_until && `; deleted by itself ${when(result.keep_until)}`}
          </p>
        </div>
        <div className="flex flex-wrap items-center gap-3">
          <Link to="../file" className="text-small text-soft underline">
            another file
          </Link>
          <CopyButton text={window.location.href} label="Copy the link" />
          {result.state === "finished" && (
            <>
              <TakeHome href={fileAddress(endpoint, result.name, "xlsx")} text="XLSX" />
              <TakeHome href={fileAddress(endpoint, result.name, "csv")} text="CSV" />
            </>
          )}
          {result.mine && !isUnderWay(result) && (
            <ConfirmDialog
              trigger={<Button kind="danger">Delete</Button>}
              title={`Delete ${result.file_name}?`}
              confirm="Delete"
              confirming="Deleting …"
              danger
              change={remove}
            >
              The answers are deleted at once. Your own file is not touched.
            </ConfirmDialog>
          )}
        </div>
      </div>
    </div>
  );
}

function TakeHome({ href, text }: { href: string; text: string }) {
  return (
    <a
      href={href}
      download
      className="inline-flex h-8 items-center gap-2 rounded-small border border-line bg-card px-3 hover:border-slate-fill"
    >
      <Download size={14} aria-hidden /> {text}
    </a>
  );
}

function UnderWay({ result }: { result: Result }) {
  const whole = result.row_total;
  const left = result.seconds_left;
  return (
    <section aria-label="progress" aria-live="polite" className="rounded-card border border-line bg-card p-4">
      <p className="text-lead">
        {result.state === "waiting"
          ? "It begins in a moment."
          : `${count(result.rows)} of ${whole ? plural(whole, "row") : "all rows"} are answered`}
        {left !== null && left >= 1
          ? `, about ${left < 90 ? `${Math.round(left)} seconds` : `${Math.round(left / 60)} minutes`} left.`
          : ""}
      </p>
      {whole ? <Bar part={result.rows / whole} label="how much is answered" tone="live" className="mt-2" /> : null}
      <p className="mt-2 text-small text-soft">You can close this page and come back by its address.</p>
    </section>
  );
}

/** How often each answer was given; a click shows only these rows. */
function Counts({ result, chosen, onChoose }: { result: Result; chosen: string | null; onChoose: (label: string | null) => void }) {
  const total = result.counts.reduce((sum, one) => sum + one.rows, 0);
  return (
    <section aria-label="answers" className="rounded-card border border-line bg-card p-4">
      <h2 className="font-semibold">{plural(total, "answer")}</h2>
      <ul className="mt-2 grid gap-1">
        {result.counts.slice(0, 20).map((one) => (
          <li key={one.label}>
            <button
              type="button"
              aria-pressed={chosen === one.label}
              onClick={() => onChoose(chosen === one.label ? null : one.label)}
              className={`grid w-full grid-cols-[minmax(0,1fr)_auto]! items-center gap-x-4 rounded-small px-2 py-1 text-left hover:bg-sunk sm:grid-cols-[minmax(0,240px)_96px_minmax(0,1fr)_72px_56px]! ${chosen === one.label ? "bg-amber-wash" : ""}`}
            >
              <span className="min-w-0 break-words">{one.text}</span>
              <StateMark state={one.state} />
              <Bar part={one.rows / total} label={`${one.text}: part of all`} tone="live" className="max-sm:col-span-2" />
              <span className="text-right tabular-nums">{count(one.rows)}</span>
              <span className="text-right text-soft tabular-nums">{((100 * one.rows) / total).toFixed(1)} %</span>
            </button>
          </li>
        ))}
      </ul>
    </section>
  );
}
