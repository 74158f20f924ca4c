"""Errors as RFC 9457 problem documents that say what to do."""

from __future__ import annotations

import logging
import secrets
from collections.abc import Mapping, Sequence
from typing import Any

from fastapi import FastAPI, Request
from fastapi.exceptions import RequestValidationError
from fastapi.responses import JSONResponse
from pydantic import BaseModel, Field
from starlette.exceptions import HTTPException

from nimble_stone.core.errors import (
    Busy,
    Conflict,
    Denied,
    FormatError,
    InputError,
    NotFound,
    RemoteError,
    StoneError,
    StoreError,
)
from nimble_stone.core.yaml_text import Faults

MAX_FAULTS, MAX_TEXT = 50, 300
log = logging.getLogger("nimble_stone.server")
_STATUS: tuple[tuple[type[StoneError], int, str], ...] = (
    (FormatError, 422, "The file cannot be read"),
    (InputError, 422, "Invalid input"),
    (NotFound, 404, "Not found"),
    (Conflict, 409, "Not possible now"),
    (Denied, 401, "Not signed in"),
    (Busy, 429, "Too many requests"),
    (StoreError, 507, "The server cannot store"),
    (RemoteError, 502, "Remote system error"),
    (StoneError, 500, "Request failed"),
)


class Fault(BaseModel):
    """One of several things that are wrong: where, and what."""

    place: str
    message: str


class Problem(BaseModel):
    """An error as RFC 9457 has it, with what to do next (`hint`), a stable code, and where in what
    was given the fault is (`place`, `faults`).
    """

    type: str = Field(description="urn:nimble-stone:problem:CODE")
    title: str
    status: int
    detail: str
    hint: str = ""
    code: str
    place: str = ""
    faults: list[Fault] = Field(default=[], max_length=MAX_FAULTS)


RESPONSES: dict[int | str, dict[str, Any]] = {
    "4XX": {"model": Problem, "description": "What was asked cannot be done, and why."},
    "5XX": {"model": Problem, "description": "The server or another machine failed, and how."},
}
"""What every operation may answer besides what it declares itself."""
MEDIA_TYPE = "application/problem+json"


def describe(schema: dict[str, Any]) -> dict[str, Any]:
    """The API's description with problems as they are sent: their media type, and no other shape
    of error.
    """
    for operations in schema.get("paths", {}).values():
        for operation in operations.values():
            answers = operation["responses"]
            answers.pop("422", None)
            for name in RESPONSES:
                answers[name]["content"] = {
                    MEDIA_TYPE: {"schema": {"$ref": "#/components/schemas/Problem"}}
                }
    for name in ("HTTPValidationError", "ValidationError"):
        schema.get("components", {}).get("schemas", {}).pop(name, None)
    return schema


def problem(
    status: int,
    code: str,
    title: str,
    detail: str,
    hint: str = "",
    headers: Mapping[str, str] | None = None,
    *,
    place: str = "",
    faults: Sequence[Mapping[str, str]] = (),
) -> JSONResponse:
    """A problem document."""
    body = {
        "type": f"urn:nimble-stone:problem:{code}",
        "title": title,
        "status": status,
        "detail": detail,
        "hint": hint,
        "code": code,
        "place": place,
        "faults": list(faults)[:MAX_FAULTS],
    }
    return JSONResponse(body, status, headers, media_type=MEDIA_TYPE)


def install(app: FastAPI) -> None:
    """Turn every error into a problem document; no stack trace leaves the server."""

    @app.exception_handler(StoneError)
    async def stone(request: Request, error: StoneError) -> JSONResponse:
        _, status, title = next(row for row in _STATUS if isinstance(error, row[0]))
        faults = (
            [{"place": place, "message": message} for place, message in error.faults]
            if isinstance(error, Faults)
            else []
        )
        text = (
            request.app.state.app.blank(str(error))
            if hasattr(request.app.state, "app")
            else str(error)
        )
        headers = {"Retry-After": str(error.retry_after_s)} if isinstance(error, Busy) else None
        return problem(
            status, error.code, title, text, error.hint, headers, place=error.place, faults=faults
        )

    @app.exception_handler(RequestValidationError)
    async def invalid(request: Request, error: RequestValidationError) -> JSONResponse:
        faults = [
            {
                "place": ".".join(str(part) for part in item["loc"])[:MAX_TEXT],
                "message": str(item["msg"])[:MAX_TEXT],
            }
            for item in error.errors()[:MAX_FAULTS]
        ]
        return problem(
            422,
            "request",
            "The request is not of the right form",
            "; ".join(f"{fault['place']}: {fault['message']}" for fault in faults[:5]),
            faults=faults,
        )

    @app.exception_handler(HTTPException)
    async def http(request: Request, error: HTTPException) -> JSONResponse:
        return problem(
            error.status_code, f"http-{error.status_code}", "Not possible", str(error.detail)
        )

    @app.exception_handler(Exception)
    async def fault(request: Request, error: Exception) -> JSONResponse:
        incident = secrets.token_hex(4)
        log.exception("incident %s at %s %s", incident, request.method, request.url.path)
        return problem(
            500,
            "fault",
            "Internal error",
            f"Something went wrong that should not. Incident {incident} is in the server's log.",
            "Try again; if it stays, report the incident number.",
        )
