"""API of outposts: for people, what each is to serve and how it does; for outposts, their state, packages, and records."""

from __future__ import annotations

from datetime import UTC, datetime, timedelta
from typing import Annotated, Any

from fastapi import APIRouter, Header, Path, Query, Request
from fastapi.responses import Response

from lamppost.core.endpoint.outposts import LATE_AFTER, SILENT_AFTER, WantedVersions, brought_by_outpost, check_labels, is_label
from lamppost.core.errors import BadRequest, Conflict
from lamppost.core.names import check_name, parse_version
from lamppost.core.payload.outpost_records import read_records
from lamppost.core.roles import Principal
from lamppost.service.api.access import FILE_ANSWER, PROBLEMS, OutpostCaller, Pointer, RequireView, TheNode, TokenKeeper
from lamppost.service.api.monitoring import store_outcomes
from lamppost.service.api.schemas.drift import FeatureDriftAnswer
from lamppost.service.api.schemas.outcomes import OutcomesAnswer
from lamppost.service.api.schemas.outposts import (
    ChunkAnswer,
    NewOutpostAnswer,
    OutcomesOfOutpostRequest,
    OutpostAnswer,
    OutpostDriftAnswer,
    OutpostEndpointAnswer,
    OutpostLabelsRequest,
    OutpostReportRequest,
    OutpostRequest,
    OutpostState,
    OutpostStateAnswer,
    OutpostVersionAnswer,
    OutpostVersionRequest,
    StoredRecordsAnswer,
)
from lamppost.service.deployment.changes import ChangeOverrides
from lamppost.service.node import Node
from lamppost.store.hub import outposts
from lamppost.store.hub.outposts import StoredOutpost

router = APIRouter(prefix="/api", tags=["outposts"], responses=PROBLEMS)
_Digest = Annotated[str, Path(pattern="^[0-9a-f]{64}$")]


# -- for people ---------------------------------------------------------------------------------------------------------


@router.get("/outposts")
async def list_outposts(node: TheNode, _: RequireView) -> list[OutpostAnswer]:
    """All outposts: what each is to serve, what it serves, and how it does."""
    wanted = await outposts.load_wanted_versions(node.pool)
    return [_answer(outpost, wanted) for outpost in await outposts.list_outposts(node.pool)]


@router.post("/outposts", status_code=201)
async def add_outpost(body: OutpostRequest, node: TheNode, caller: TokenKeeper, request: Request) -> NewOutpostAnswer:
    """Add an outpost. The secret of its token is shown only in this answer."""
    check_name(body.name, "outpost")
    for endpoint in body.may_report:
        node.deployment.table.find_route(endpoint)
    outpost, secret = await outposts.add_outpost(
        node.pool, body.name, check_labels(body.labels), body.payload_bytes_per_day, caller.changed_by, body.may_report
    )
    await node.auth.reload()
    hub = node.settings.link_address(str(request.base_url))
    command = f"lamppost outpost join {hub} --name {body.name} --token-file FILE"
    return NewOutpostAnswer(outpost=_answer(outpost, await outposts.load_wanted_versions(node.pool)), secret=secret, command=command)


@router.get("/outposts/{name}")
async def get_outpost(name: str, node: TheNode, _: RequireView) -> OutpostAnswer:
    """One outpost."""
    return _answer(await outposts.get_outpost(node.pool, name), await outposts.load_wanted_versions(node.pool))


@router.get("/outposts/{name}/drift")
async def get_outpost_drift(
    name: str, node: TheNode, _: RequireView, hours: Annotated[float, Query(gt=0, le=24 * 366)] = 24
) -> list[OutpostDriftAnswer]:
    """Whether the rows that an outpost answered in the last hours look like training, by endpoint."""
    outpost = await outposts.get_outpost(node.pool, name)
    versions = outpost.recorded_versions(await outposts.load_wanted_versions(node.pool))
    until = datetime.now(UTC)
    since = until - timedelta(hours=hours)
    brought_by = brought_by_outpost(name)
    answers = []
    for endpoint, version in sorted(versions.items()):
        found = await node.drift_evaluation.judge_brought(endpoint, version, brought_by, since, until)
        about: dict[str, Any] = {"endpoint": endpoint, "version": version, "since": since}
        if found is None:
            nothing = f"{version} was packed without a reference; pack it again."
            answers.append(OutpostDriftAnswer(**about, rows=0, odd=0, state=None, summary=nothing, figures=[]))
            continue
        verdict = found.verdict
        figures = [FeatureDriftAnswer.model_validate(field, from_attributes=True) for field in verdict.fields]
        answers.append(
            OutpostDriftAnswer(**about, rows=found.rows, odd=found.odd, state=verdict.state, summary=verdict.summary, figures=figures)
        )
    return answers


@router.put("/outposts/{name}/labels")
async def label_outpost(name: str, body: OutpostLabelsRequest, node: TheNode, caller: Pointer) -> OutpostAnswer:
    """Give an outpost other labels."""
    outpost = await outposts.label_outpost(node.pool, name, check_labels(body.labels), caller.changed_by)
    return _answer(outpost, await outposts.load_wanted_versions(node.pool))


@router.post("/outposts/{name}/bar")
async def bar_outpost(name: str, node: TheNode, caller: TokenKeeper) -> OutpostAnswer:
    """End the token of an outpost that is lost or given up: it gets nothing more, and its records are refused."""
    outpost = await outposts.bar_outpost(node.pool, name, caller.changed_by)
    await node.auth.reload()
    return _answer(outpost, await outposts.load_wanted_versions(node.pool))


@router.put("/endpoints/{endpoint}/outposts")
async def point_outposts(endpoint: str, body: OutpostVersionRequest, node: TheNode, caller: Pointer) -> OutpostVersionAnswer:
    """Have outposts serve a version for an endpoint of this service. Each fetches it, proves it, and then swaps it in."""
    node.deployment.table.find_route(endpoint)
    target = await check_target(node, body.at, body.version is not None)
    note = None
    if body.version is not None:
        overrides = ChangeOverrides(body.break_callers, body.override)
        note = await node.outpost_rollouts.check_version(endpoint, parse_version(body.version), caller.role, overrides)
    before = await outposts.set_outpost_version(node.pool, endpoint, target, body.version, caller.changed_by, note)
    node.outpost_hub.note_change()
    meant = [
        one.name for one in await outposts.list_outposts(node.pool) if (target == one.name or target in one.labels) and not one.own_files
    ]
    undo = f"lamppost point {endpoint} {before} --at {target}" if before else f"lamppost outpost clear {endpoint} --at {target}"
    return OutpostVersionAnswer(endpoint=endpoint, at=target, version=body.version, before=before, outposts=meant, undo=undo)


async def check_target(node: Node, at: str, to_serve: bool = True) -> str:
    """The name of an outpost, or a label; raise NotFound or BadRequest. to_serve : whether it is to serve what is set here; raise Conflict
    for an outpost that does not.
    """
    if is_label(at):
        return check_labels([at])[0]
    outpost = await outposts.get_outpost(node.pool, at)
    if to_serve and outpost.own_files:
        raise Conflict(f"{at} serves lamp files of its own; change its files, or start it with: lamppost outpost join")
    return outpost.name


def _answer(outpost: StoredOutpost, wanted: WantedVersions) -> OutpostAnswer:
    report: dict[str, Any] = outpost.report or {}
    state, reasons = _state(outpost, report)
    return OutpostAnswer(
        name=outpost.name,
        state=state,
        reasons=reasons,
        labels=list(outpost.labels),
        payload_bytes_per_day=outpost.payload_bytes_per_day,
        endpoints=_endpoints(outpost, report, wanted),
        heard_at=outpost.heard_at,
        records_at=outpost.records_at,
        records_waiting=report.get("records_waiting"),
        payloads_left_out=report.get("payloads_left_out"),
        clock_ahead_s=outpost.clock_ahead_s,
        disk_free_bytes=report.get("disk_free_bytes"),
        software=report.get("software"),
        address=report.get("address"),
        own_files=outpost.own_files,
        made_by=outpost.made_by,
        made_at=outpost.made_at,
        barred_at=outpost.barred_at,
    )


def _state(outpost: StoredOutpost, report: dict[str, Any]) -> tuple[OutpostState, list[str]]:
    """What is said of an outpost as a whole, and why."""
    if outpost.barred_at is not None:
        return "barred", ["its token was ended"]
    if outpost.heard_s_ago is None:
        return "not joined", []
    if outpost.heard_s_ago > SILENT_AFTER.total_seconds():
        return "down", [f"not heard of for {outpost.heard_s_ago / 60:.0f} minutes; it may go on answering where it is"]
    reasons = [f"{endpoint}: {one['version']} is not served: {one['reason']}" for endpoint, one in (report.get("refused") or {}).items()]
    reasons += [
        f"{endpoint} is {one['state']}" for endpoint, one in (report.get("served") or {}).items() if one["state"] in ("down", "degraded")
    ]
    if outpost.own_files:
        reasons += _not_recorded(outpost.name, report)
    if outpost.heard_s_ago > LATE_AFTER.total_seconds():
        reasons.insert(0, f"not heard of for {outpost.heard_s_ago / 60:.1f} minutes; it may go on answering where it is")
    if abs(outpost.clock_ahead_s or 0) > 60:
        reasons.append(f"its clock is {abs(outpost.clock_ahead_s or 0):.0f} s {'ahead' if (outpost.clock_ahead_s or 0) > 0 else 'behind'}")
    return ("degraded" if reasons else "serving"), reasons


def _not_recorded(name: str, report: dict[str, Any]) -> list[str]:
    """Why calls of lamp files that an outpost serves on its own are not recorded here."""
    reasons = []
    for endpoint, one in (report.get("served") or {}).items():
        if endpoint not in report["may_report"]:
            reasons.append(f"calls of {endpoint} are not recorded: {name} was added without --may-report {endpoint}")
        elif one["version"] is None:
            reasons.append(f"calls of {endpoint} are not recorded: push the lamp file that {name} serves")
    return reasons


def _endpoints(outpost: StoredOutpost, report: dict[str, Any], wanted: WantedVersions) -> list[OutpostEndpointAnswer]:
    chosen = wanted.at_outpost(outpost.name, outpost.labels)
    served, refused = report.get("served") or {}, report.get("refused") or {}
    return [
        OutpostEndpointAnswer(
            endpoint=endpoint,
            at=chosen[endpoint].target if endpoint in chosen else None,
            wanted=chosen[endpoint].version if endpoint in chosen else None,
            served=(served.get(endpoint) or {}).get("version"),
            rollout_percent=chosen[endpoint].rollout_percent if endpoint in chosen else None,
            state=(served.get(endpoint) or {}).get("state"),
            refused=(refused.get(endpoint) or {}).get("reason"),
        )
        for endpoint in sorted({*chosen, *served})
    ]


# -- for outposts -------------------------------------------------------------------------------------------------------


@router.post("/outposts/{name}/report")
async def report_of_outpost(name: str, body: OutpostReportRequest, node: TheNode, caller: OutpostCaller) -> OutpostStateAnswer:
    """Take in what an outpost says of itself, and answer with what it is to have: at once where that has changed, else after its wait."""
    outpost = await node.outpost_hub.require_outpost(name, caller.principal)
    report = body.model_dump(mode="json", exclude={"instance", "known", "wait_s", "clock", "sealed"})
    if body.own_files:
        state = await node.outpost_hub.state_of_own_files(outpost, [one.digest for one in body.served.values() if one.digest is not None])
        for one in report["served"].values():  # it counts versions in its own way
            one["version"], one["versions"] = state.document["names"].get(one["digest"]), []
        report["may_report"] = state.document["endpoints"]
    await node.outpost_hub.note_report(outpost, body.instance, body.clock, report)
    if not body.own_files:
        state = await node.outpost_hub.changed_state(name, body.known, body.wait_s, body.sealed)
    return OutpostStateAnswer(digest=state.digest, state=state.document if state.digest != body.known else {})


@router.get("/outposts/{name}/packages/{digest}/chunks")
async def list_chunks(name: str, digest: _Digest, node: TheNode, caller: OutpostCaller) -> list[ChunkAnswer]:
    """The chunks of a package that an outpost is to serve, in their order."""
    await node.outpost_hub.require_package(await node.outpost_hub.require_outpost(name, caller.principal), digest)
    return [ChunkAnswer(sha256=sha256, size_bytes=size) for sha256, size in await outposts.package_chunks(node.pool, digest)]


@router.get("/outposts/{name}/packages/{digest}/chunks/{sha256}", response_class=Response, responses=FILE_ANSWER)
async def get_chunk(name: str, digest: _Digest, sha256: _Digest, node: TheNode, caller: OutpostCaller) -> Response:
    """The content of one chunk."""
    await node.outpost_hub.require_package(await node.outpost_hub.require_outpost(name, caller.principal), digest)
    return Response(await outposts.read_chunk(node.pool, digest, bytes.fromhex(sha256)), media_type="application/octet-stream")


@router.post("/outposts/{name}/records")
async def take_records(
    name: str, request: Request, node: TheNode, caller: OutpostCaller, clock: Annotated[datetime, Header(description="the outpost's clock")]
) -> StoredRecordsAnswer:
    """Store records that an outpost brings: each once, however often they are brought."""
    outpost = await node.outpost_hub.require_outpost(name, caller.principal)
    return StoredRecordsAnswer(lost=await node.outpost_hub.take_records(outpost, read_records(await request.body()), clock))


@router.post("/outposts/{name}/outcomes")
async def take_outcomes(name: str, body: OutcomesOfOutpostRequest, node: TheNode, caller: OutpostCaller) -> OutcomesAnswer:
    """Store the truth about answers of an endpoint that was reported at an outpost. Brought twice, it is stored once."""
    outpost = await node.outpost_hub.require_outpost(name, caller.principal)
    node.deployment.table.find_route(body.endpoint)
    if body.endpoint not in await outposts.endpoints_of_outpost(node.pool, outpost.name):
        raise BadRequest(f"the outpost {outpost.name} was never to serve {body.endpoint!r}")
    return await store_outcomes(node, body.endpoint, body.reported, Principal(body.by, "caller"))
