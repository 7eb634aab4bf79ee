import { useState } from "react";
import { Link } from "react-router";
import { api, good, type Review } from "../api/client";
import { useEndpoints, useMay, useReviews, useSession } from "../api/queries";
import { Button, Card, Mono, Trouble, Waiting } from "../parts/basics";
import { VersionLink } from "../parts/VersionLink";
import { ago, plural } from "../words";
import { useServiceChange } from "../api/useServiceChange";

/** What waits for somebody else's eyes? */
export function ReviewsPage() {
  const reviews = useReviews();
  if (reviews.error && !reviews.data) return <Trouble error={reviews.error} again={() => void reviews.refetch()} />;
  const open = reviews.data?.filter((one) => one.state === "open") ?? [];
  const over = reviews.data?.filter((one) => one.state !== "open") ?? [];
  return (
    <>
      <h1 className="text-title font-semibold">Reviews</h1>
      <p className="mt-1 text-lead text-soft">
        {open.length ? `${plural(open.length, "version waits", "versions wait")} for approval.` : "Nothing waits for approval."}
      </p>
      {!reviews.data ? (
        <Waiting height={200} label="loading reviews" />
      ) : !reviews.data.length ? (
        <Nothing />
      ) : (
        <>
          {open.map((one) => (
            <Open key={one.number} review={one} />
          ))}
          {over.length > 0 && <Over all={over} />}
        </>
      )}
    </>
  );
}

function Nothing() {
  const endpoints = useEndpoints();
  return (
    <Card title="How reviews work" className="mt-4">
      <p>An endpoint may demand that others approve a version before it serves there. An admin says so with:</p>
      <pre className="mt-2 rounded-small bg-sunk p-3 font-mono text-small">{`lamppost review demand ${endpoints.data?.[0]?.name ?? "ENDPOINT"} 1`}</pre>
    </Card>
  );
}

function Open({ review }: { review: Review }) {
  const session = useSession();
  const endpoints = useEndpoints();
  const may = useMay("review");
  const [reason, setReason] = useState("");
  const serving = endpoints.data?.find((one) => one.name === review.endpoint)?.version;
  const mine = session.data?.token === review.asked_by;
  const say = useServiceChange("review", async (approves: boolean) =>
    good(await api.POST("/api/reviews/{review}/verdict", { params: { path: { review: review.number } }, body: { approves, reason } })),
  );
  const approvals = review.verdicts.filter((one) => one.approves).length;
  return (
    <Card
      title={`Review ${review.number}`}
      className="mt-4"
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
      {review.verdicts.map((one) => (
        <p key={one.token} className="mt-2 text-soft">
          {one.token} approved {ago(one.at)}: {one.reason}
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

function Over({ all }: { all: Review[] }) {
  return (
    <Card title="Decided" className="mt-4">
      <table className="figures w-full">
        <thead>
          <tr>
            <th className="num w-12">#</th>
            <th>endpoint</th>
            <th>version</th>
            <th>state</th>
            <th>asked by</th>
            <th>what was said</th>
          </tr>
        </thead>
        <tbody>
          {all.map((one) => (
            <tr key={one.number}>
              <td className="num">{one.number}</td>
              <td className="font-mono">{one.endpoint}</td>
              <td>
                <VersionLink name={one.version} />
              </td>
              <td className={one.state === "refused" ? "text-brick" : ""}>{one.state}</td>
              <td>{one.asked_by}</td>
              <td className="text-soft">{one.verdicts.map((verdict) => `${verdict.token}: ${verdict.reason}`).join("; ")}</td>
            </tr>
          ))}
        </tbody>
      </table>
    </Card>
  );
}
