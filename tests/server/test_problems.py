"""Every operation answers errors in one shape, and its description says so."""

from __future__ import annotations

import re
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import httpx
import pytest

from nimble_stone.server.app import create_app
from nimble_stone.server.problems import MEDIA_TYPE, Problem
from tests.support.processes import ServerProcess

DESCRIPTION: dict[str, Any] = create_app(Path("unused")).openapi()
OPERATIONS = [(method, path) for path, found in DESCRIPTION["paths"].items() for method in found]
STREAMS = ("/api/runs/{ident}/events", "/api/runs/{ident}/changes")


@pytest.fixture(scope="module")
def place(tmp_path_factory: pytest.TempPathFactory) -> Iterator[ServerProcess]:
    server = ServerProcess(tmp_path_factory.mktemp("problems") / "data")
    yield server
    server.stop()


def is_problem(answer: httpx.Response) -> None:
    assert answer.headers["content-type"] == MEDIA_TYPE
    body = answer.json()
    assert set(body) == set(Problem.model_fields)
    found = Problem.model_validate(body)
    assert found.status == answer.status_code
    assert found.type == f"urn:nimble-stone:problem:{found.code}"
    assert found.title
    assert found.detail


@pytest.mark.parametrize(("method", "path"), OPERATIONS)
def test_every_operation_declares_its_problems(method: str, path: str) -> None:
    answers = DESCRIPTION["paths"][path][method]["responses"]
    for name in ("4XX", "5XX"):
        schema = answers[name]["content"][MEDIA_TYPE]["schema"]
        assert schema == {"$ref": "#/components/schemas/Problem"}
    assert "422" not in answers, "validation has no shape of its own"


def test_every_operation_answers_strangers_and_nonsense_with_a_problem(
    place: ServerProcess,
) -> None:
    """Unknown names, bodies of the wrong form, and no session at all."""
    stranger = httpx.Client(base_url=place.url, trust_env=False, timeout=30)
    client = place.client()
    seen = 0
    for method, path in OPERATIONS:
        where = re.sub(r"\{[^}]*\}", "no-such-thing", path)
        own = stranger.request(method, where)
        if own.status_code >= 400 and method != "head":
            is_problem(own)
            seen += 1
        if method == "delete" or path in STREAMS:
            continue
        answer = client._http.request(method, where, json={"no-such-key": [1]})
        if answer.status_code >= 400:
            is_problem(answer)
            seen += 1
        assert answer.status_code < 500, f"{method} {path}: {answer.text[:200]}"
    assert seen > len(OPERATIONS)


def test_the_change_of_a_run_has_a_shape_of_its_own() -> None:
    schemas = DESCRIPTION["components"]["schemas"]
    assert {"since", "slots", "steps"} <= set(schemas["RunDelta"]["required"])
    assert "HTTPValidationError" not in schemas
