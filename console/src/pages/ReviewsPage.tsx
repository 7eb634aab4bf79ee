import { useState } from "react";
import { Link } from "react-router";
import { api, good, type Review } from "../api/client";
import { useDeclared, useEndpoint, useMay, useOverview, useReviews, useSession } from "../api/queries";
import { Button, Card, Mono, Snippets, Trouble } from "../parts/basics";
import { QueryState } from "../parts/QueryState";
import { Truncated } from "../parts/Tip";
import { useToast } from "../parts/Toasts";
import { VersionLink } from "../parts/VersionLink";
import { type Column, DataTable } from "../table/DataTable";
import { ago, plural } from "../words";
import { useServiceChange } from "../api/useServiceChange";

/** What waits for somebody else's eyes? */
export function ReviewsPage() {
  const reviews = useReviews();
  const waiting = reviews.data?.filter((review) => review.state === "open").length ?? 0;
  return (
    <>
      <h1 className="text-title font-semibold">Reviews</h1>
      <p className="mt-1 text-lead text-soft">
        {waiting ? `${plural(waiting, "version waits", "versions wait")} for approval.` : "Nothing waits for approval."}
      </p>
      <QueryState query={reviews} loading="reviews" height={200}>
        {(all) => (
          <div className={`mt-4 grid items-start gap-4 ${all.length ? "grid-cols-[minmax(0,2fr)_minmax(0,1fr)]" : "grid-cols-2"}`}>
            <div className="grid gap-4 *:min-w-0">
              {all
                .filter((review) => review.state === "open")
                .map((review) => (
                  <Open key={review.number} review={review} />
                ))}
              <Decided all={all.filter((review) => review.state !== "open")} />
            </div>
            <div className="grid gap-4 *:min-w-0">
              <Demanding />
              <HowTo />
            </div>
          </div>
        )}
      </QueryState>
    </>
  );
}

/** Which endpoints want others to agree before a version serves. */
function Demanding() {
  const declared = useDeclared();
  const demanding = Object.entries((declared.data?.endpoints ?? {}) as Record<string, { approvals?: number }>).flatMap(
    ([name, { approvals }]) => (approvals ? [{ name, approvals }] : []),
  );
  return (
    <Card title="Endpoints that need a review">
      {demanding.length ? (
        <ul>
          {demanding.map((endpoint) => (
            <li key={endpoint.name} className="flex h-8 items-center justify-between gap-3">
              <Link to={`/endpoints/${endpoint.name}`} className="min-w-0 hover:underline">
                <Truncated focusable={false}>{endpoint.name}</Truncated>
              </Link>
              <span className="shrink-0 text-soft">{plural(endpoint.approvals, "approval")}</span>
            </li>
          ))}
        </ul>
      ) : (
        <p className="text-soft">None: any version that gives training&rsquo;s answers may serve at once.</p>
      )}
    </Card>
  );
}

function HowTo() {
  const overview = useOverview("", true);
  const name = overview.data?.shown[0]?.name ?? "ENDPOINT";
  return (
    <Card title="How reviews work">
      <p className="text-soft">
        An endpoint may demand that others approve a version before it serves there. Going back never needs one, and who went without is on
        the trail.
      </p>
      <Snippets
        id="how reviews work"
        all={[
          { name: "Demand", text: `lamppost review demand ${name} 1   # as admin` },
          { name: "Ask", text: `lamppost review ask ${name} MODEL@N --note "what changed, and why it should serve"` },
          { name: "Approve", text: 'lamppost review approve NUMBER --reason "what was looked at"' },
        ]}
      />
    </Card>
  );
}

function Open({ review }: { review: Review }) {
  const session = useSession();
  const endpoint = useEndpoint(review.endpoint);
  const may = useMay("review");
  const [reason, setReason] = useState("");
  const serving = endpoint.data?.version;
  const mine = session.data?.token === review.asked_by;
  const toast = useToast();
  const say = useServiceChange(
    "review",
    async (approves: boolean) =>
      good(await api.POST("/api/reviews/{review}/verdict", { params: { path: { review: review.number } }, body: { approves, reason } })),
    (_, approves) => toast({ title: `You ${approves ? "approved" : "refused"} ${review.version} for ${review.endpoint}` }),
  );
  const approvals = review.verdicts.filter((verdict) => verdict.approves).length;
  return (
    <Card
      title={`Review ${review.number}`}
      aside={
        <span className="text-small text-faint">
          {approvals} of {plural(review.needed, "approval")}
        </span>
      }
    >
      <p>
        <VersionLink name={review.version} live /> shall serve{" "}
        <Link to={`/endpoints/${review.endpoint}`} className="font-mono hover:underline">
          {review.endpoint}
        </Link>
        , asked by {review.asked_by} {ago(review.asked_at)}.
      </p>
      <blockquote className="mt-2 border-l-2 border-slate-fill pl-3 text-soft">{review.note}</blockquote>
      {serving && (
        <p className="mt-2">
          <Link to={`/compare?before=${serving}&after=${review.version}`} className="underline">
            What changes from <Mono>{serving}</Mono>
          </Link>
        </p>
      )}
      {review.verdicts.map((verdict) => (
        <p key={verdict.token} className="mt-2 text-soft">
          {verdict.token} approved {ago(verdict.at)}: {verdict.reason}
        </p>
      ))}
      {may && !mine && (
        <div className="mt-3 flex items-end gap-3">
          <label className="grid flex-1 gap-1 text-small text-soft">
            what did you look at?
            <input className="control" value={reason} onChange={(event) => setReason(event.target.value)} />
          </label>
          <Button kind="main" disabled={!reason.trim() || say.isPending} onClick={() => say.mutate(true)}>
            Approve
          </Button>
          <Button disabled={!reason.trim() || say.isPending} onClick={() => say.mutate(false)}>
            Refuse
          </Button>
        </div>
      )}
      {mine && <p className="mt-3 text-small text-faint">You asked for it, so somebody else decides.</p>}
      {say.error && (
        <div className="mt-3">
          <Trouble error={say.error} />
        </div>
      )}
    </Card>
  );
}

const COLUMNS: Column<Review>[] = [
  { id: "number", head: "#", numeric: true, width: 48, value: (review) => review.number },
  { id: "endpoint", width: 160, value: (review) => review.endpoint, className: "font-mono" },
  { id: "version", width: 160, value: (review) => review.version, cell: (review) => <VersionLink name={review.version} /> },
  { id: "state", width: 96, value: (review) => review.state, className: (review) => (review.state === "refused" ? "text-brick" : "") },
  { id: "asked by", width: 112, value: (review) => review.asked_by },
  {
    id: "reasons",
    grow: true,
    value: (review) => review.verdicts.map((verdict) => `${verdict.token}: ${verdict.reason}`).join("; "),
    className: "text-soft",
  },
];

const Decided = ({ all }: { all: Review[] }) => (
  <Card title="Decided">
    {all.length ? (
      <DataTable label="decided reviews" columns={COLUMNS} rows={all} rowKey={(review) => String(review.number)} />
    ) : (
      <p className="text-soft">No review was decided yet.</p>
    )}
  </Card>
);
