"""API of one desk for those who ask there: a question, or a file. Its session opens these addresses and no other."""

from __future__ import annotations

import asyncio
from datetime import timedelta
from typing import Annotated, Any
from urllib.parse import quote
from uuid import UUID, uuid4

from fastapi import APIRouter, Depends, Query, Request, Response
from fastapi.responses import FileResponse
from pydantic import BaseModel

from lamppost.core.bulk.order import format_of_path
from lamppost.core.bulk.row_selection import RowSelection
from lamppost.core.desk.answer_words import labels_of, main_answer, words_of_answer
from lamppost.core.desk.settings import DeskSettings
from lamppost.core.endpoint.endpoint_schema import EndpointSchema
from lamppost.core.errors import BadBody, BadRequest, Conflict, NotAllowed, NotFound, NotSignedIn
from lamppost.service.api.access import FILE_ANSWER, PROBLEMS, Caller, DeskGuest, TheNode
from lamppost.service.api.desks import ROLE, schema_of
from lamppost.service.api.other_node import require_here
from lamppost.service.api.schemas.base import field_answers
from lamppost.service.api.schemas.desks import (
    AnswerWordsRequest,
    DeskCountAnswer,
    DeskFileAnswer,
    DeskFileRequest,
    DeskMatchAnswer,
    DeskMatchRequest,
    DeskPageAnswer,
    DeskQuestionRequest,
    DeskReasonAnswer,
    DeskReplyAnswer,
    DeskResultAnswer,
    DeskResultRequest,
    DeskRowAnswer,
    DeskRowsAnswer,
    DeskScoreAnswer,
    DeskSignInRequest,
    FieldWordsRequest,
)
from lamppost.service.auth import DESK_COOKIE, UnknownSecret, session_of
from lamppost.service.bulk.output import RunParts
from lamppost.service.bulk.run_comparison import sum_answers
from lamppost.service.bulk.uploads import add_piece, begin_upload, check_file_name
from lamppost.service.desk.desk_files import DeskFiles, Matching
from lamppost.service.desk.one_question import ask_one, complete_question, reasons_of_one
from lamppost.service.desk.result_rows import SURE, answer_condition, read_page, read_table, result_columns
from lamppost.service.node import Node
from lamppost.store import tokens
from lamppost.store.bulk import bulk_runs, desks, uploads
from lamppost.store.bulk.bulk_runs import BulkRun, RunCounts

router = APIRouter(prefix="/api/desk/{endpoint}", tags=["desks"], responses=PROBLEMS)

_SESSION = timedelta(days=30)
_MOST_BYTES = 100 * 2**20
_SHOWN_RESULTS = 50


class Desk:
    """A desk and who is there."""

    def __init__(self, node: Node, endpoint: str, settings: DeskSettings, schema: EndpointSchema, caller: Caller) -> None:
        self.node = node
        self.endpoint = endpoint
        self.settings = settings
        self.schema = schema
        self.caller = caller
        self.answer = main_answer(settings.answer, schema.answers)
        self.files = DeskFiles(node.bulk_runs, endpoint, settings, schema)

    @property
    def is_guest(self) -> bool:
        """Whether the session is of a link, and not of somebody who may see more anyway."""
        return self.caller.role == ROLE


async def the_desk(endpoint: str, node: TheNode, caller: DeskGuest) -> Desk:
    """The desk of an endpoint; raise NotAllowed for a link of another desk."""
    if caller.role == ROLE and endpoint not in (caller.principal.endpoints or ()):
        raise NotAllowed("this link opens another desk; ask for a link to this one")
    stored = await desks.get_desk(node.pool, endpoint)
    return Desk(node, endpoint, stored.settings, await schema_of(node, endpoint), caller)


TheDesk = Annotated[Desk, Depends(the_desk)]


# -- the session ----------------------------------------------------------------------------------------------------------


@router.post("/session", status_code=204)
async def sign_in_at_desk(endpoint: str, body: DeskSignInRequest, request: Request, response: Response, node: TheNode) -> None:
    """Open the desk with a link; the answer sets an HttpOnly, SameSite=Strict cookie for the addresses of this desk."""
    try:
        principal = node.auth.principal_of_token(body.link.strip())
    except UnknownSecret:
        await node.auth.note_failure(request.client.host if request.client is not None else None)
        raise NotSignedIn("this link is not known here, or was ended; ask whoever gave it to you for another one") from None
    node.auth.charge(principal)
    if principal.role != ROLE or endpoint not in (principal.endpoints or ()):
        raise NotAllowed("this link opens another desk")
    secret = await tokens.open_session(node.pool, principal.token, _SESSION)
    response.set_cookie(
        DESK_COOKIE,
        secret,
        max_age=int(_SESSION.total_seconds()),
        path=_cookie_path(node, endpoint),
        httponly=True,
        samesite="strict",
        secure=request.url.scheme == "https",
    )


@router.delete("/session", status_code=204)
async def leave_desk(endpoint: str, request: Request, response: Response, node: TheNode, caller: DeskGuest) -> None:
    """End this session of the desk; the link stays."""
    if caller.role == ROLE and (secret := session_of(request.headers.get("cookie", ""))):
        await tokens.close_session(node.pool, secret)
        await node.auth.reload()
    response.delete_cookie(DESK_COOKIE, path=_cookie_path(node, endpoint), httponly=True, samesite="strict")


def _cookie_path(node: Node, endpoint: str) -> str:
    return f"{node.forwarding.base}/api/desk/{quote(endpoint, safe='')}"


# -- one question -----------------------------------------------------------------------------------------------------------


@router.get("")
async def get_desk_page(desk: TheDesk) -> DeskPageAnswer:
    """What the desk shows."""
    settings, schema = desk.settings, desk.schema
    fields = [field for field in schema.inputs if settings.words_of(field.name).shown]
    options = [field for field in schema.options or () if settings.words_of(field.name).shown]
    words = {label: words_of_answer(settings, desk.answer, label) for label in labels_of(desk.answer)}
    return DeskPageAnswer(
        title=settings.title,
        introduction=settings.introduction,
        use=settings.use,
        fields=field_answers(fields),
        options=field_answers(options),
        words={
            field.name: FieldWordsRequest(label=known.label, hint=known.hint)
            for field in (*fields, *options)
            for known in (settings.words_of(field.name),)
        },
        answers={label: AnswerWordsRequest(text=text, state=state) for label, (text, state) in words.items()},  # type: ignore[arg-type]
        is_number=desk.answer.kind in ("number", "integer"),
        example={field.name: field.example for field in fields},
        takes_files=all(field.kind not in ("image", "tensor") for field in fields),
        keep_days=settings.keep_days,
        guest=desk.is_guest,
        available=desk.node.deployment.table.find_route(desk.endpoint).status.state != "down",
    )


@router.post("/ask")
async def ask_desk(body: DeskQuestionRequest, desk: TheDesk) -> DeskReplyAnswer:
    """The answer to one question."""
    node = desk.node
    question = complete_question(desk.settings, desk.schema, body.row, body.options)
    said = await ask_one(node.call_admission, node.recorder, desk.endpoint, desk.settings, question, desk.caller.token)
    await desks.note_use(node.pool, desk.endpoint, desk.caller.token, questions=1)
    scores = [DeskScoreAnswer(text=text, share=share) for text, share in said.scores]
    return DeskReplyAnswer(text=said.text, state=said.state, scores=scores)  # type: ignore[arg-type]


@router.post("/why")
async def explain_at_desk(body: DeskQuestionRequest, desk: TheDesk) -> list[DeskReasonAnswer]:
    """Why the answer to a question is what it is: the fields that moved it most."""
    question = complete_question(desk.settings, desk.schema, body.row, body.options)
    reasons = await reasons_of_one(desk.node.explainer, desk.endpoint, desk.settings, question)
    most = max((abs(reason.amount) for reason in reasons), default=1.0)
    return [DeskReasonAnswer(label=reason.label, value=reason.value, share=reason.amount / most) for reason in reasons]


# -- files ------------------------------------------------------------------------------------------------------------------


@router.post("/files", status_code=201)
async def start_desk_file(body: DeskFileRequest, desk: TheDesk) -> DeskFileAnswer:
    """Begin to bring a file; its pieces follow."""
    node = desk.node
    name = check_file_name(body.file_name)
    if format_of_path(name)[0] not in ("csv", "xlsx"):
        raise BadRequest(f"{name} is neither CSV nor XLSX; save it as one of them")
    file = uuid4()
    await asyncio.to_thread(begin_upload, node.bulk_runs.places.upload_folder(str(file)), name)
    await uploads.add_upload(node.pool, file, node.settings.name, name, desk.caller.token)
    return DeskFileAnswer(id=file, file_name=name, size_bytes=0)


@router.put(
    "/files/{file}",
    openapi_extra={"requestBody": {"content": {"application/octet-stream": {"schema": {"type": "string", "format": "binary"}}}}},
)
async def add_to_desk_file(
    file: UUID, request: Request, desk: TheDesk, at: Annotated[int, Query(ge=0, le=2**40, description="first byte of the piece")]
) -> DeskFileAnswer:
    """A piece of the file; a piece that is sent twice is the same as once."""
    name = await _own_file(desk, file)
    piece = await request.body()
    if at + len(piece) > _MOST_BYTES:
        raise BadRequest(f"a file here may have {_MOST_BYTES // 2**20} MB; split it")
    size = await asyncio.to_thread(add_piece, desk.node.bulk_runs.places.upload_folder(str(file)), name, at, piece)
    return DeskFileAnswer(id=file, file_name=name, size_bytes=size)


async def _own_file(desk: Desk, file: UUID, body: BaseModel | None = None) -> str:
    """The name of a file that this link has brought; raise NotFound for any other."""
    found = await uploads.get_upload(desk.node.pool, file)
    if found.made_by != desk.caller.token:
        raise NotFound("there is no such file here; bring it again")
    require_here(desk.node, found.node, "the file was brought to a place", body)
    return found.file_name


@router.post("/files/{file}/match")
async def match_desk_file(file: UUID, body: DeskMatchRequest, desk: TheDesk) -> DeskMatchAnswer:
    """How a file would be understood, and which of its rows would stay without an answer. Nothing is answered yet."""
    await _own_file(desk, file, body)
    try:
        matching = await desk.files.match(file, body.columns, body.sheet)
    except BadBody as error:
        sheets = error.extra.get("sheets") or []
        if not sheets:
            raise
        return DeskMatchAnswer(
            columns=[], matched={}, first=[], sheets=sheets, problem=error.detail, rows=None, rejects=0, first_rejects=[], whole=False
        )
    trial, problem = await _trial(desk, matching, body.options)
    return DeskMatchAnswer(
        columns=matching.columns,
        matched=trial["matched"] if trial else matching.matched,
        first=matching.first,
        sheets=[],
        problem=problem,
        rows=trial["rows"] if trial else None,
        rejects=trial["rejects"] if trial else 0,
        first_rejects=trial["first_rejects"] if trial else [],
        whole=bool(trial and trial["whole"]),
    )


async def _trial(desk: Desk, matching: Matching, options: dict[str, Any]) -> tuple[dict[str, Any] | None, str | None]:
    try:
        return await desk.files.try_rows(matching, options), None
    except (BadBody, BadRequest) as error:
        return None, error.detail


@router.post("/results", status_code=202)
async def start_desk_result(body: DeskResultRequest, desk: TheDesk) -> DeskResultAnswer:
    """Answer a file."""
    node = desk.node
    name = await _own_file(desk, body.file, body)
    matching = await desk.files.match(body.file, body.columns, body.sheet)
    run = await desk.files.begin(matching, body.options, desk.caller.changed_by)
    trial_rows = run.row_total or 0
    await desks.note_use(node.pool, desk.endpoint, desk.caller.token, files=1, rows=trial_rows)
    return await _result(desk, run, RunCounts(), name)


@router.get("/results")
async def list_desk_results(desk: TheDesk) -> list[DeskResultAnswer]:
    """The files that were answered over this link, the newest first; for the owner those of all links."""
    token = desk.caller.token if desk.is_guest else None
    found = await bulk_runs.list_desk_runs(desk.node.pool, desk.endpoint, token, _SHOWN_RESULTS)
    return [await _result(desk, run, counts) for run, counts in found]


@router.get("/results/{name}")
async def get_desk_result(name: str, desk: TheDesk) -> DeskResultAnswer:
    """One file: how far it is, and how often each answer was given. Whoever may open the desk and knows the name may read it."""
    run = await _run(desk, name)
    return await _result(desk, run, await bulk_runs.count_blocks(desk.node.pool, name))


@router.delete("/results/{name}", status_code=204)
async def delete_desk_result(name: str, desk: TheDesk) -> None:
    """Delete a result before its time is over; only over the link by which its file was brought."""
    run = await _run(desk, name)
    if desk.is_guest and run.made_by != desk.caller.token:
        raise NotAllowed("this result is of another link; only who brought the file may delete it")
    if run.under_way:
        await desk.node.bulk_runs.stop(name, desk.caller.changed_by)
        raise Conflict("it is being stopped; delete it in a moment")
    require_here(desk.node, run.node, "the answers are")
    await desk.node.bulk_runs.forget(name, desk.caller.changed_by)


@router.get("/results/{name}/rows")
async def list_desk_rows(
    name: str,
    desk: TheDesk,
    answer: Annotated[str | None, Query(max_length=1_000, description="only rows with this answer, by its label")] = None,
    search: Annotated[str, Query(max_length=200, description="a text that any column holds")] = "",
    sort: Annotated[str | None, Query(max_length=300, description="a column; with a - before it, the largest first")] = None,
    at: Annotated[int, Query(ge=0, le=2**31)] = 0,
    limit: Annotated[int, Query(ge=1, le=500)] = 50,
) -> DeskRowsAnswer:
    """A page of the rows of a finished result."""
    run = await _finished(desk, name)

    def read() -> DeskRowsAnswer:
        table = read_table(desk.files.output_file(run))
        columns = result_columns(table.column_names, desk.schema.answers, desk.answer)
        where = () if answer is None else (answer_condition(columns, answer),)
        page = read_page(table, desk.settings, columns, RowSelection(where, (sort,) if sort else ()), search, at, limit)
        rows = zip(page.places, page.cells, page.answers, page.sure, strict=True)
        return DeskRowsAnswer(
            matching=page.matching,
            columns=columns.kept,
            rows=[
                DeskRowAnswer(place=place, cells=cells, text=said[0], state=said[1], sure=sure)  # type: ignore[arg-type]
                for place, cells, said, sure in rows
            ],
            sort_answer=columns.answer.name,
            sort_sure=SURE if columns.scores else None,
        )

    return await asyncio.to_thread(read)


@router.get("/results/{name}/file", response_class=FileResponse, responses=FILE_ANSWER)
async def get_desk_result_file(name: str, desk: TheDesk, form: Annotated[str, Query(pattern="^(csv|xlsx)$")] = "xlsx") -> FileResponse:
    """All rows with their answers, to take home."""
    run = await _finished(desk, name)
    file = await desk.files.file_to_take_home(run, desk.answer, form)
    stem = run_file_name(run).rpartition(".")[0] or run.name
    return FileResponse(file, media_type="application/octet-stream", filename=f"{stem} with answers.{form}")


def run_file_name(run: BulkRun) -> str:
    """The name of the file that was brought."""
    files = (run.source or {}).get("files") or [{"path": run.name}]
    return str(files[0]["path"])


async def _run(desk: Desk, name: str) -> BulkRun:
    run = await bulk_runs.get_run(desk.node.pool, name)
    if run.desk != desk.endpoint:
        raise NotFound("there is no such result here; it was deleted, or its time is over")
    return run


async def _finished(desk: Desk, name: str) -> BulkRun:
    run = await _run(desk, name)
    if run.state != "finished":
        raise Conflict("the file is not answered to its end yet" if run.under_way else f"the file was not answered: {run.reason}")
    require_here(desk.node, run.node, "the answers are")
    return run


async def _result(desk: Desk, run: BulkRun, counts: RunCounts, file_name: str | None = None) -> DeskResultAnswer:
    node = desk.node
    answers = sum_answers(await bulk_runs.done_blocks(node.pool, run.name)).get(desk.answer.name, {})
    first: list[dict[str, Any]] = (run.result or {}).get("first_rejects") or []
    if counts.rejects and not first and run.node == node.settings.name:
        first = await asyncio.to_thread(RunParts(node.bulk_runs.places.run_folder(run.name)).first_rejects)
    said = [(label, rows, words_of_answer(desk.settings, desk.answer, label)) for label, rows in answers.items()]
    left = None
    if run.under_way and run.row_total and counts.recent_rows and counts.recent_s:
        left = max(0.0, (run.row_total - counts.rows) * counts.recent_s / counts.recent_rows)
    return DeskResultAnswer(
        name=run.name,
        file_name=file_name or run_file_name(run),
        state=run.state,
        reason=run.reason,
        made_at=run.made_at,
        ended_at=run.ended_at,
        keep_until=run.keep_until,
        rows=counts.rows,
        row_total=run.row_total,
        rejects=counts.rejects,
        seconds_left=left,
        counts=[DeskCountAnswer(label=label, text=text, state=state, rows=rows) for label, rows, (text, state) in said],  # type: ignore[arg-type]
        first_rejects=first,
        mine=run.made_by == desk.caller.token,
    )
