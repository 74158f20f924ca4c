"""The HTTP face: signing in, forged requests, problems that say what to do, taking packages in,
edits, live events, secrets.
"""

from __future__ import annotations

import json
import socket
import sqlite3
from pathlib import Path
from typing import Any

import httpx
import pytest

from nimble_stone.cli.client import Client
from nimble_stone.core.errors import Denied, InputError, StoneError
from nimble_stone.lab.scenario import appliance, demo
from nimble_stone.server.views import PlanDelta, PlanView
from tests.support.processes import PASSWORD, LabProcess, ServerProcess, ended, ready_plan, wait_for


def raw(server: ServerProcess, client: Client | None = None) -> httpx.Client:
    cookies = client._http.cookies if client else None
    return httpx.Client(base_url=server.url, cookies=cookies, trust_env=False)


def test_nothing_is_told_without_signing_in(server: ServerProcess) -> None:
    with raw(server) as http:
        paths = (
            http.get("/api/health").json()
            and json.loads((Path(__file__).parents[2] / "web/openapi.json").read_text())["paths"]
        )
        for path, methods in paths.items():
            for method in methods:
                if (method, path) in (("post", "/api/session"), ("get", "/api/health")):
                    continue
                answer = http.request(method.upper(), path.replace("{", "").replace("}", ""))
                assert answer.status_code == 401, (method, path)
                assert answer.headers["content-type"] == "application/problem+json"


def test_a_change_without_the_sessions_token_is_refused(
    server: ServerProcess, client: Client
) -> None:
    with raw(server, client) as http:
        answer = http.post("/api/estate/read", json={})
        assert (answer.status_code, answer.json()["code"]) == (403, "csrf")
        assert http.get("/api/estate").status_code == 200


def test_a_wrong_key_is_refused_and_guessing_is_slowed(server: ServerProcess) -> None:
    with pytest.raises(Denied, match="Wrong access key"):
        Client(server.url, "aaaaa-bbbbb-ccccc-ddddd-eeeee")
    with raw(server) as http:
        codes = [http.post("/api/session", json={"key": "x"}).json()["code"] for _ in range(12)]
    assert codes[-1] == "too-many-tries"
    server.kill()
    # a new life forgets the tries, not the sessions
    server.start()


def test_the_key_is_kept_as_a_hash_and_the_keyring_apart_from_its_key(
    server: ServerProcess, client: Client
) -> None:
    assert server.key.encode() not in (server.data / "nimble-stone.db").read_bytes()
    assert (server.data / "keyring.key").stat().st_mode & 0o077 == 0
    assert (server.data / "client.json").stat().st_mode & 0o077 == 0


@pytest.mark.parametrize(
    ("name", "data", "code"),
    [
        ("cut", appliance.ova(mib=1)[:500_000], "archive-truncated"),
        ("garbage", b"\x00\x01garbage" * 500, "not-a-package"),
        ("empty", b"", "upload-length"),
        (
            "xml",
            appliance.pack("x", {"x.ovf": b"<!DOCTYPE a [<!ENTITY b 'c'>]><a>&b;</a>"}),
            "xml-dtd",
        ),
        (
            "disk",
            appliance.pack(
                "x",
                {
                    "x.ovf": appliance.descriptor(1 << 30, 140).encode(),
                    "gauge-collector-disk1.vmdk": b"no disk" * 20,
                },
            ),
            "disk-kind",
        ),
    ],
)
def test_a_package_that_is_not_right_leaves_nothing_but_its_reason(
    client: Client, server: ServerProcess, tmp_path: Path, name: str, data: bytes, code: str
) -> None:
    before = sorted(path.name for path in (server.data / "packages").rglob("*"))
    path = tmp_path / f"{name}.ova"
    path.write_bytes(data)
    with pytest.raises(InputError) as caught:
        client.upload(path, lambda *_: None)
    assert caught.value.code == code
    assert sorted(path.name for path in (server.data / "packages").rglob("*")) == before


def test_a_wrong_digest_is_refused_while_it_streams_in(client: Client, tmp_path: Path) -> None:
    data = bytearray(appliance.ova(mib=1))
    data[-200_000] ^= 1
    path = tmp_path / "changed.ova"
    path.write_bytes(bytes(data))
    with pytest.raises(InputError, match="does not match the package's manifest"):
        client.upload(path, lambda *_: None)


def test_a_package_larger_than_the_free_disk_is_refused_before_a_byte_is_read(
    server: ServerProcess, client: Client
) -> None:
    head = (
        "POST /api/packages?name=big.ova HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie:"
        f" {'; '.join(f'{k}={v}' for k, v in client._http.cookies.items())}\r\nX-CSRF-Token:"
        f" {client._http.headers['X-CSRF-Token']}\r\nContent-Length: {1 << 50}\r\n\r\n"
    )
    with socket.create_connection(("127.0.0.1", server.port)) as connection:
        connection.settimeout(20)
        connection.sendall(head.encode())
        answer = ""
        while piece := connection.recv(65536):
            answer += piece.decode()
            if "disk-full" in answer:
                break
    assert "409" in answer.splitlines()[0]
    assert "disk-full" in answer


def test_an_upload_whose_sender_vanishes_leaves_nothing(
    server: ServerProcess, client: Client
) -> None:
    head = (
        "POST /api/packages HTTP/1.1\r\nHost: 127.0.0.1\r\nCookie:"
        f" {'; '.join(f'{k}={v}' for k, v in client._http.cookies.items())}\r\nX-CSRF-Token:"
        f" {client._http.headers['X-CSRF-Token']}\r\nContent-Length: 9000000\r\n\r\n"
    )
    with socket.create_connection(("127.0.0.1", server.port)) as connection:
        connection.sendall(head.encode() + appliance.ova(mib=1)[:700_000])
        wait_for(
            lambda: list((server.data / "packages/incoming").glob("*/*.part")),
            10,
            "the upload to begin",
        )
    wait_for(
        lambda: not list((server.data / "packages/incoming").glob("*/*.part")),
        20,
        "the remains to go",
    )


def test_two_people_editing_one_plan_do_not_overwrite_each_other(client: Client) -> None:
    view = client.call(
        "POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: shared-by-two")}
    )
    client.call(
        "PATCH",
        "/api/plans/shared-by-two",
        {"version": view["version"], "edits": [{"path": ["values", "station"], "value": "north"}]},
    )
    with pytest.raises(StoneError, match="changed by another user"):
        client.call(
            "PATCH",
            "/api/plans/shared-by-two",
            {
                "version": view["version"],
                "edits": [{"path": ["values", "station"], "value": "south"}],
            },
        )
    assert "station: north" in client.text("/api/plans/shared-by-two/file")
    client.call("POST", f"/api/plans/shared-by-two/restore/{view['version']}")
    assert client.text("/api/plans/shared-by-two/file").startswith(
        "# The gauges of the western shore"
    )
    assert "station: west" in client.text("/api/plans/shared-by-two/file")


def edited(client: Client, plan: str, version: int, *path: str, value: Any) -> int:
    return int(
        client.call(
            "PATCH",
            f"/api/plans/{plan}",
            {"version": version, "edits": [{"path": path, "value": value}]},
        )["version"]
    )


def test_taking_back_ones_own_change_leaves_what_somebody_else_changed(client: Client) -> None:
    first = client.call(
        "POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: undone-by-one")}
    )["version"]
    mine = edited(client, "undone-by-one", first, "values", "station", value="north")
    edited(client, "undone-by-one", mine, "title", value="Somebody else's")
    back = client.call("POST", f"/api/plans/undone-by-one/take-back/{mine}")
    text = client.text("/api/plans/undone-by-one/file")
    assert "station: west" in text
    assert "title: Somebody else's" in text
    # redo is taking the taking-back back
    again = client.call("POST", f"/api/plans/undone-by-one/take-back/{back['version']}")
    assert "station: north" in client.text("/api/plans/undone-by-one/file")
    edited(client, "undone-by-one", again["version"], "values", "station", value="south")
    with pytest.raises(StoneError, match="changed again at values.station"):
        client.call("POST", f"/api/plans/undone-by-one/take-back/{mine}")
    assert "station: south" in client.text("/api/plans/undone-by-one/file")
    with pytest.raises(InputError, match="no earlier version"):
        client.call("POST", "/api/plans/undone-by-one/take-back/1")
    client.call("DELETE", "/api/plans/undone-by-one")


def test_trying_an_edit_shows_all_consequences_and_keeps_nothing(client: Client) -> None:
    view = client.call(
        "POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: tried-out")}
    )
    body = {
        "version": view["version"],
        "edits": [
            {"path": ["roles", "archive", "count"], "value": 5},
            {"path": ["nodes", "lead-1", "address"], "value": "10.44.20.1"},
        ],
    }
    tried = client.call("POST", f"/api/plans/tried-out/try?known={view['tag']}", body)
    delta = PlanDelta.model_validate(tried)
    assert delta.since == view["tag"]
    assert delta.licence_text is None, "what is as it was is left out"
    assert PlanView.model_validate(view).nodes
    assert {"archive-3", "archive-4", "archive-5"} <= {node["id"] for node in tried["nodes"]}
    assert [
        f["node"]
        for f in tried["findings"]
        if f["code"] == "address-reserved" or "10.44.20.1" in f["message"]
    ] == ["lead-1"]
    assert tried["forecast_s"] != view["forecast_s"]
    now = client.call("GET", "/api/plans/tried-out")
    assert (now["version"], len(now["nodes"])) == (view["version"], 3)
    # what was only tried is held from nobody
    other = client.call(
        "POST", "/api/plans", {"text": demo.PLAN.replace("name: western", "name: tried-beside")}
    )
    typed = {node["cells"]["address"]["value"] for node in other["nodes"]}
    assert typed & {
        node["cells"]["address"]["value"]
        for node in tried["nodes"]
        if node["id"].startswith("archive") and "address" in node["cells"]
    }
    # An edit after it is answered against the page's own answer, and a second try against it too.
    kept = client.call(
        "PATCH",
        f"/api/plans/tried-out?known={view['tag']}",
        {"version": view["version"], "edits": [{"path": ["title"], "value": "Kept"}]},
    )
    assert (kept["since"], kept["title"]) == (view["tag"], "Kept")
    with pytest.raises(InputError):
        client.call(
            "POST",
            "/api/plans/tried-out/try",
            {"version": 1, "edits": [{"path": ["roles", "archive", "count"], "value": "many"}]},
        )
    for name in ("tried-out", "tried-beside"):
        client.call("DELETE", f"/api/plans/{name}")


def test_a_wrong_plan_file_is_told_line_by_line_and_stores_nothing(client: Client) -> None:
    before = client.text("/api/plans/western/file")
    with pytest.raises(InputError, match=r"line \d+, column 1: “colour” is not a key"):
        client.call("PUT", "/api/plans/western/file", {"text": before + "colour: red\n"})
    with pytest.raises(InputError, match="tab character"):
        client.call("POST", "/api/plans", {"text": "nimble-stone: plan/1\n\tname: x\n"})
    assert client.text("/api/plans/western/file") == before


def test_a_weak_password_is_refused_and_what_stood_there_stays(client: Client) -> None:
    view = client.call("GET", "/api/plans/western")
    with pytest.raises(InputError, match="at least 10"):
        client.call(
            "POST",
            "/api/plans/western/secret",
            {"version": view["version"], "column": "admin_password", "value": "short"},
        )
    assert client.call("GET", "/api/plans/western")["version"] == view["version"]


def test_live_events_resume_after_the_last_one_seen(
    client: Client, server: ServerProcess, lab: LabProcess
) -> None:
    ready_plan(client, demo.PLAN.replace("name: western", "name: live"))
    run = client.call("POST", "/api/plans/live/run")["run"]
    first = []
    for event in client.events(run):
        first.append(event["id"])
        if len(first) == 5:
            break
    ended(client, run)
    rest = []
    for event in client.events(run, after=first[-1]):
        rest.append(event["id"])
        if event["kind"] in ("proved", "not-proved"):
            break
    known = [event["id"] for event in client.call("GET", f"/api/runs/{run}")["events"]]
    assert first + rest == known
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


def test_secrets_are_nowhere_in_clear(
    client: Client, server: ServerProcess, lab: LabProcess
) -> None:
    """Canaries: the administrator's password, the hosts' password and the join token, looked for in
    everything that is kept or told.
    """
    ready_plan(client, demo.PLAN.replace("name: western", "name: canary"))
    run = client.call("POST", "/api/plans/canary/run")["run"]
    assert ended(client, run)["state"] == "done"
    view = client.call("GET", f"/api/runs/{run}")
    token = httpx.get(
        "http://{}:{}/cgi-bin/token".format(
            *lab.plan.real(view["nodes"][0]["cells"]["address"]["value"], 8080)
        ),
        auth=("admin", PASSWORD),
        trust_env=False,
    ).json()["token"]
    told = json.dumps(
        [
            view,
            client.call("GET", "/api/plans/canary"),
            client.call("GET", "/api/estate"),
            client.call("GET", "/api/secrets"),
            [
                client.call("GET", f"/api/runs/{run}/transcript?step={step['key']}")
                for step in view["steps"]
            ],
        ]
    )
    told += (
        client.text(f"/api/runs/{run}/acceptance.html")
        + client.text(f"/api/runs/{run}/acceptance.xml")
        + client.text("/api/plans/canary/file")
    )
    told += "".join(
        line for line in server.log.read_text().splitlines() if "Access key (shown once" not in line
    )
    connection = sqlite3.connect(f"file:{server.data}/nimble-stone.db?mode=ro", uri=True)
    kept = "\n".join(connection.iterdump())
    connection.close()
    for canary in (PASSWORD, demo.PASSWORD, token, server.key):
        assert canary not in told
        assert canary not in kept
    client.call("POST", f"/api/runs/{run}/undo", {})
    ended(client, run, states=("undone",))


def test_an_unknown_thing_is_a_problem_document_with_words(
    client: Client, server: ServerProcess
) -> None:
    with raw(server, client) as http:
        answer = http.get("/api/runs/none")
        assert answer.status_code == 404
        assert {"type", "title", "status", "detail", "hint", "code"} <= set(answer.json())
        assert http.get("/api/plans/none").json()["detail"] == "there is no plan “none”"
