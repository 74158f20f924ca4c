"""Requests that were once answered with status 500, or with the page where there is nothing."""

from __future__ import annotations

from typing import Any

import httpx
import pytest

from nimble_stone.cli.client import Client
from tests.support.processes import ServerProcess

HUGE = 10**30


def asked(
    server: ServerProcess, client: Client, method: str, path: str, **more: Any
) -> httpx.Response:
    with httpx.Client(
        base_url=server.url, cookies=client._http.cookies, trust_env=False, timeout=30
    ) as http:
        headers = [
            (b"x-csrf-token", str(client._http.headers["X-CSRF-Token"]).encode()),
            *more.pop("headers", []),
        ]
        return http.request(method, path, headers=headers, **more)


@pytest.mark.parametrize(
    ("method", "path", "body"),
    [
        ("POST", f"/api/plans/western/restore/{HUGE}", None),
        ("POST", f"/api/plans/western/take-back/{HUGE}", None),
        ("PATCH", "/api/plans/western", {"version": HUGE, "edits": []}),
        ("GET", f"/api/plans/western/difference?version={HUGE}", None),
        ("GET", "/api/estate/bays/kelda-main/layout?least_gib=7.8e307", None),
        ("GET", "/api/estate/bays/kelda-main/layout?least_gib=nan", None),
        ("PUT", "/api/values/x", {"version": HUGE, "text": "nimble-stone: values/1\nname: x\n"}),
        ("GET", "/api/runs/x/events?after=1e5", None),
    ],
)
def test_numbers_beyond_reason_are_refused_in_words(
    server: ServerProcess, client: Client, method: str, path: str, body: Any
) -> None:
    answer = asked(server, client, method, path, json=body)
    assert 400 <= answer.status_code < 500, answer.text
    assert answer.headers["content-type"] == "application/problem+json"
    assert answer.json()["detail"]


@pytest.mark.parametrize(
    "text",
    ['{"loads": {"gauges": 1e999}}', '{"loads": {"gauges": NaN}}', '{"loads": {"\\ud800": 1}}'],
)
def test_loads_that_are_no_numbers_are_refused(
    server: ServerProcess, client: Client, text: str
) -> None:
    answer = asked(server, client, "POST", "/api/plans/western/sizing", content=text.encode())
    assert 200 <= answer.status_code < 500, answer.text


def test_a_token_that_is_not_ascii_is_a_wrong_one(server: ServerProcess, client: Client) -> None:
    with httpx.Client(base_url=server.url, cookies=client._http.cookies, trust_env=False) as http:
        answer = http.post("/api/estate/read", json={}, headers=[(b"x-csrf-token", "é".encode())])
    assert (answer.status_code, answer.json()["code"]) == (403, "csrf")


def test_an_event_id_that_only_looks_like_a_number_is_passed_over(
    server: ServerProcess, client: Client
) -> None:
    with (
        httpx.Client(base_url=server.url, cookies=client._http.cookies, trust_env=False) as http,
        http.stream(
            "GET", "/api/runs/none/events", headers=[(b"last-event-id", b"\xb2")]
        ) as answer,
    ):
        assert answer.status_code == 404


def test_a_gateway_that_is_none_is_a_finding(client: Client) -> None:
    view = client.call("GET", "/api/plans/western")
    edit = {"path": ["nodes", "lead-1", "gateway"], "value": "x"}
    tried = client.call(
        "POST", "/api/plans/western/try", {"version": view["version"], "edits": [edit]}
    )
    assert any(f["column"] == "gateway" and f["severity"] == "blocker" for f in tried["findings"])


@pytest.mark.parametrize(
    "path",
    [
        "/metrics",
        "/health",
        "/api",
        "/api/nothing",
        "/api/plans/x/nothing",
        "/.env",
        "/assets/none.js",
        "/favicon.php",
    ],
)
def test_where_there_is_nothing_a_problem_document_says_so(
    server: ServerProcess, client: Client, path: str
) -> None:
    answer = asked(server, client, "GET", path)
    assert answer.status_code == 404
    assert answer.headers["content-type"] == "application/problem+json"


@pytest.mark.parametrize(
    "path", ["/", "/plans", "/plans/western/run", "/estate/hosts/gannet", "/packages", "/keyring"]
)
def test_the_pages_own_addresses_answer_the_page(
    server: ServerProcess, client: Client, path: str
) -> None:
    answer = asked(server, client, "GET", path)
    assert answer.status_code == 200
    assert answer.headers["content-type"].startswith("text/html")
