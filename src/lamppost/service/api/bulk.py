"""API of bulk runs: check, start, follow, stop, resume, repeat, fetch; and of the files that clients bring for them."""

from __future__ import annotations

import asyncio
from collections.abc import AsyncIterator
from dataclasses import replace
from pathlib import Path
from typing import Annotated, Any
from uuid import UUID, uuid4

from fastapi import APIRouter, Query, Request
from fastapi.responses import FileResponse, Response, StreamingResponse
from pydantic import BaseModel

from lamppost.core.bulk.order import source_name
from lamppost.core.errors import Conflict, NotFound
from lamppost.service.api.access import FILE_ANSWER, PROBLEMS, Pointer, RequireView, TheNode
from lamppost.service.api.other_node import require_here
from lamppost.service.api.schemas.bulk import (
    AnswerSpreadAnswer,
    BulkCheckAnswer,
    BulkCheckRequest,
    BulkPlacesAnswer,
    BulkRepeatRequest,
    BulkResultAnswer,
    BulkResumeRequest,
    BulkRunAnswer,
    BulkRunDetailAnswer,
    BulkStartRequest,
    ChangedFieldAnswer,
    MatchedColumnsAnswer,
    QuestionDriftAnswer,
    QuestionRequest,
    SentReportAnswer,
    UploadAnswer,
    UploadRequest,
)
from lamppost.service.bulk.output import RunParts
from lamppost.service.bulk.run_comparison import RunComparison, compare_run
from lamppost.service.bulk.run_places import RunPlaces
from lamppost.service.bulk.uploads import add_piece, begin_upload, check_file_name, upload_of, upload_text
from lamppost.service.monitoring.run_reports import check_receivers, run_report_facts
from lamppost.service.node import Node
from lamppost.service.pages.draw import MEDIA_TYPES, Form, draw_page, in_turn
from lamppost.store.bulk import bulk_runs, uploads
from lamppost.store.bulk.bulk_runs import BulkRun, RunCounts
from lamppost.store.bulk.uploads import Upload
from lamppost.store.database import AWAY

router = APIRouter(prefix="/api", tags=["bulk runs"], responses=PROBLEMS)

_FOLLOW_S = 0.5
_REPORT: dict[int | str, dict[str, Any]] = {200: {"content": {"text/html": {}, "application/pdf": {}}}}
_EVENTS: dict[int | str, dict[str, Any]] = {200: {"content": {"text/event-stream": {"schema": {"type": "string"}}}}}


@router.get("/bulk/places")
async def list_bulk_places(node: TheNode, _: Pointer) -> BulkPlacesAnswer:
    """The folders and databases that bulk runs on this node may read and write."""
    places = node.bulk_runs.places
    return BulkPlacesAnswer(folders=sorted(places.folders), sources=sorted(places.sources), targets=sorted(places.targets))


@router.post("/bulk/check")
async def check_bulk(body: BulkCheckRequest, node: TheNode, _: Pointer) -> BulkCheckAnswer:
    """What a run of this order would read and write; a run that would be refused is refused here."""
    order = body.to_order()
    await _require_upload_here(node, order.source, body)
    await check_receivers(node.pool, order.report)
    checked = await node.bulk_runs.check(order, body.rows)
    return BulkCheckAnswer(
        columns=checked["columns"],
        rows=checked["rows"],
        matches=[MatchedColumnsAnswer(**match) for match in checked["matches"]],
        unused=checked["unused"],
        output=checked["output"],
        first=checked["first"],
        reason_rows=checked["reason_rows"],
    )


@router.post("/bulk", status_code=202)
async def start_bulk(body: BulkStartRequest, node: TheNode, caller: Pointer) -> BulkRunAnswer:
    """Start a run; it is checked first, and refused with nothing scored if its columns do not fit."""
    order = body.to_order()
    await _require_upload_here(node, order.source, body)
    await check_receivers(node.pool, order.report)
    run = await node.bulk_runs.begin(order, body.name, caller.changed_by)
    return BulkRunAnswer(**_facts(run, RunCounts()))


@router.get("/bulk")
async def list_bulk(
    node: TheNode,
    _: RequireView,
    of: Annotated[str | None, Query(max_length=200, description="an endpoint, a version or a model")] = None,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
    before: Annotated[int | None, Query(ge=0, le=2**62, description="only runs with lower numbers")] = None,
) -> list[BulkRunAnswer]:
    """The runs, the newest first."""
    return [BulkRunAnswer(**_facts(run, counts)) for run, counts in await bulk_runs.list_runs(node.pool, of, limit, before)]


@router.get("/bulk/{run}")
async def get_bulk(
    run: str,
    node: TheNode,
    _: RequireView,
    against: Annotated[str | None, Query(max_length=63, description="another run to compare with [the one before]")] = None,
) -> BulkRunDetailAnswer:
    """One run: how far it is, how often each label was given, and how its rows differ from training and from the run before."""
    found = await bulk_runs.get_run(node.pool, run)
    other = None if against is None else await bulk_runs.get_run(node.pool, against)
    counts = await bulk_runs.count_blocks(node.pool, run)
    compared = await compare_run(node.pool, node.window_counting, found, other)
    first: list[dict[str, Any]] = (found.result or {}).get("first_rejects") or []
    if counts.rejects and not first:
        first = await asyncio.to_thread(RunParts(node.bulk_runs.places.run_folder(run)).first_rejects)
    return BulkRunDetailAnswer(
        **_facts(found, counts),
        answers=compared.answers,
        answers_before=compared.answers_before,
        before=compared.before,
        drift=_drift(compared),
        spreads=[
            AnswerSpreadAnswer(
                name=spread.name,
                version=spread.version,
                quantiles=spread.quantiles,
                **{name: spread.shares[name] for name in ("edges", "range", "reference", "window")},
            )
            for spread in compared.spreads
        ],
        keep=list(found.order.keep),
        columns=found.order.columns,
        first_rejects=first,
    )


@router.get("/bulk/{run}/progress")
async def get_bulk_progress(run: str, node: TheNode, _: RequireView) -> BulkRunAnswer:
    """How far a run is, and nothing that takes long to find out."""
    return await _answer(node, run)


@router.get("/bulk/{run}/events", response_class=StreamingResponse, responses=_EVENTS)
async def follow_bulk(run: str, node: TheNode, _: RequireView) -> StreamingResponse:
    """How far a run is, as server-sent events: one with each change, until the run has ended."""
    await bulk_runs.get_run(node.pool, run)
    return StreamingResponse(_events(node, run), media_type="text/event-stream", headers={"Cache-Control": "no-store"})


@router.post("/bulk/{run}/stop")
async def stop_bulk(run: str, node: TheNode, caller: Pointer) -> BulkRunAnswer:
    """Stop a run after the blocks that it has in hand; it can be resumed."""
    await node.bulk_runs.stop(run, caller.changed_by)
    return await _answer(node, run)


@router.post("/bulk/{run}/resume")
async def resume_bulk(run: str, body: BulkResumeRequest, node: TheNode, caller: Pointer) -> BulkRunAnswer:
    """Go on with a run that was stopped or failed, where it was."""
    require_here(node, (await bulk_runs.get_run(node.pool, run)).node, f"the parts of {run} are", body)
    await node.bulk_runs.resume(run, body.most_rejects, caller.changed_by)
    return await _answer(node, run)


@router.post("/bulk/{run}/repeat", status_code=202)
async def repeat_bulk(run: str, body: BulkRepeatRequest, node: TheNode, caller: Pointer) -> BulkRunAnswer:
    """Start another run of the same order, by what its endpoints serve now."""
    order = (await bulk_runs.get_run(node.pool, run)).order
    order = replace(
        order,
        source=body.source or order.source,
        target=body.target or order.target,
        replace=order.replace if body.replace is None else body.replace,
    )
    started = await node.bulk_runs.begin(order, body.name, caller.changed_by)
    return BulkRunAnswer(**_facts(started, RunCounts()))


@router.delete("/bulk/{run}", status_code=204)
async def forget_bulk(run: str, node: TheNode, caller: Pointer) -> None:
    """Delete a run that has ended, and what the service keeps of its output; files and tables that it wrote elsewhere stay."""
    require_here(node, (await bulk_runs.get_run(node.pool, run)).node, f"what is kept of {run} is")
    await node.bulk_runs.forget(run, caller.changed_by)


@router.get("/bulk/{run}/output", response_class=FileResponse, responses=FILE_ANSWER)
async def get_bulk_output(run: str, node: TheNode, _: Pointer) -> FileResponse:
    """The output of a finished run whose order named no target."""
    found = await bulk_runs.get_run(node.pool, run)
    if found.state != "finished":
        raise Conflict(f"the bulk run {run} is {found.state}; its output is there when it has finished")
    if found.order.target is not None:
        raise Conflict(f"the output of {run} is at {found.order.target}; fetch it there")
    return _file(node, found, str((found.result or {}).get("path")))


@router.get("/bulk/{run}/rejects", response_class=FileResponse, responses=FILE_ANSWER)
async def get_bulk_rejects(run: str, node: TheNode, _: Pointer) -> FileResponse:
    """The rows that a finished run left out, each with its fault, as NDJSON; where its order named no file as target."""
    found = await bulk_runs.get_run(node.pool, run)
    file = RunPlaces(node.bulk_runs.places, found).rejects_file(found.result)
    if file is None:
        raise NotFound(f"the service keeps no rejects of {run}: there were none, or they are beside its output")
    return _file(node, found, file.name)


@router.get("/bulk/{run}/report", response_class=Response, responses=_REPORT)
async def get_bulk_report(run: str, node: TheNode, _: Pointer, form: Form = "html") -> Response:
    """The report about a finished run, as HTML or PDF. Which rows it lists is set with the run."""
    found = await bulk_runs.get_run(node.pool, run)
    if found.state != "finished":
        raise Conflict(f"the bulk run {run} is {found.state}; its report is there when it has finished")
    async with in_turn():
        facts = await run_report_facts(node.pool, node.window_counting, found, node.settings.public_address)
        page = await draw_page("run_report", facts, form)
    head = {"content-disposition": f'inline; filename="{run}.{form}"'}
    return Response(page, media_type=MEDIA_TYPES[form], headers=head)


def _file(node: Node, run: BulkRun, name: str) -> FileResponse:
    file = node.bulk_runs.places.run_folder(run.name) / Path(name).name
    require_here(node, run.node, f"the files of {run.name} are")
    if not file.exists():
        raise NotFound(f"{name} is gone from the disk of {run.node}; repeat the run: lamppost bulk repeat {run.name}")
    return FileResponse(file, media_type="application/octet-stream", filename=file.name)


async def _require_upload_here(node: Node, source: str, body: BaseModel) -> None:
    """Raise OnOtherNode for the order of a file that was brought to another node."""
    if (upload := upload_of(source)) is not None:
        require_here(node, (await uploads.get_upload(node.pool, upload)).node, "the file was brought to a place", body)


# -- uploads --------------------------------------------------------------------------------------------------------------


@router.post("/uploads", status_code=201)
async def start_upload(body: UploadRequest, node: TheNode, caller: Pointer) -> UploadAnswer:
    """Begin to bring a file for bulk runs; its pieces follow."""
    name = check_file_name(body.file_name)
    upload_id = uuid4()
    await asyncio.to_thread(begin_upload, node.bulk_runs.places.upload_folder(str(upload_id)), name)
    return _upload(await uploads.add_upload(node.pool, upload_id, node.settings.name, name, caller.token), 0)


@router.put(
    "/uploads/{upload}",
    openapi_extra={"requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def add_to_upload(
    upload: UUID,
    request: Request,
    node: TheNode,
    _: Pointer,
    at: Annotated[int, Query(ge=0, le=2**50, description="first byte of the piece")],
) -> UploadAnswer:
    """A piece of the file; a piece that is sent twice is the same as once."""
    found = await uploads.get_upload(node.pool, upload)
    require_here(node, found.node, "the upload was begun")
    folder = node.bulk_runs.places.upload_folder(str(upload))
    return _upload(found, await asyncio.to_thread(add_piece, folder, found.file_name, at, await request.body()))


def _upload(upload: Upload, size_bytes: int) -> UploadAnswer:
    return UploadAnswer(id=upload.id, source=upload_text(upload.id), file_name=upload.file_name, node=upload.node, size_bytes=size_bytes)


# -- shapes ---------------------------------------------------------------------------------------------------------------


async def _answer(node: Node, name: str) -> BulkRunAnswer:
    return BulkRunAnswer(**_facts(await bulk_runs.get_run(node.pool, name), await bulk_runs.count_blocks(node.pool, name)))


def _facts(run: BulkRun, counts: RunCounts) -> dict[str, Any]:
    report = run.order.report
    going = run.state in ("running", "stopping")
    rate = (counts.recent_rows / counts.recent_s if counts.recent_s > 0 else None) if going else None
    if not going and run.busy_s > 0 and counts.rows:
        rate = counts.rows / run.busy_s
    left = None
    if going and rate and run.row_total is not None:
        left = max(0.0, (run.row_total - counts.rows) / rate)
    return {
        "name": run.name,
        "number": run.number,
        "state": run.state,
        "reason": run.reason,
        "questions": [QuestionRequest(of=one.of, name=one.name, options=one.options) for one in run.order.questions],
        "versions": list(run.versions),
        "source": source_name(run.order, run.source),
        "target": run.order.target,
        "node": run.node,
        "made_by": run.made_by,
        "made_at": run.made_at,
        "started_at": run.started_at,
        "ended_at": run.ended_at,
        "rows": counts.rows,
        "rejects": counts.rejects,
        "row_total": run.row_total if run.state != "finished" else counts.rows,
        "rows_per_second": rate,
        "seconds_left": left,
        "most_rejects": run.order.most_rejects,
        "busy_s": run.busy_s,
        "digest": run.digest,
        "result": _result(run),
        "report": report and SentReportAnswer(to=list(report.to), sent_at=run.reported_at, fault=run.report_fault),
    }


def _result(run: BulkRun) -> BulkResultAnswer | None:
    if run.result is None or run.state != "finished":
        return None
    kept = run.order.target is None
    return BulkResultAnswer(
        path=run.result.get("path"),
        table=run.result.get("table"),
        format=run.result.get("format"),
        size_bytes=run.result.get("size_bytes"),
        rejects=run.result.get("rejects"),
        fetchable=kept,
        rejects_fetchable="rejects" in run.result and (kept or "table" in run.result),
    )


def _drift(compared: RunComparison) -> list[QuestionDriftAnswer]:
    answers = []
    for one in compared.drift:
        for against, verdict in (("training", one.training), (one.before_run, one.before)):
            if verdict is not None and against is not None:
                fields = [ChangedFieldAnswer(name=field.name, state=field.state, summary=field.summary) for field in verdict.changed_fields]
                answers.append(
                    QuestionDriftAnswer(version=one.version, against=against, state=verdict.state, summary=verdict.summary, fields=fields)
                )
    return answers


async def _events(node: Node, name: str) -> AsyncIterator[bytes]:
    last = b""
    while True:
        try:
            answer = await _answer(node, name)
        except NotFound:
            return
        except AWAY:
            yield b": the database is away\n\n"
            await asyncio.sleep(2.0)
            continue
        data = answer.model_dump_json().encode()
        if data != last:
            yield b"event: progress\ndata: " + data + b"\n\n"
            last = data
        if answer.ended_at is not None:
            return
        await asyncio.sleep(_FOLLOW_S)
