"""Starting a plan whose host falls silent: nothing moves, nothing starts, the finding says who
would go where.
"""

from __future__ import annotations

import json
import threading
import time
from typing import Any

import pytest

from nimble_stone.cli.client import Client
from tests.support.processes import LabProcess, ServerProcess, ended, wait_for


def hosts_of(view: dict[str, Any]) -> dict[str, str]:
    return {node["id"]: node["host"] for node in view["nodes"]}


@pytest.mark.parametrize(
    "knobs", [{"unreachable": True}, {"login_refused": True}, {"flood_mib": 200}, {"garbage": True}]
)
def test_silence_moves_nobody_and_a_person_decides(
    client: Client, lab: LabProcess, knobs: dict[str, Any]
) -> None:
    before = client.call("GET", "/api/plans/western")
    silent = hosts_of(before)["lead-1"]
    lab.turn(silent, **knobs)
    try:
        started = client.call("POST", "/api/plans/western/run")
        assert started["run"] == ""
        assert hosts_of(started["plan"]) == hosts_of(before)
        finding = next(
            f
            for f in started["plan"]["findings"]
            if f["host"] == silent and f["severity"] == "blocker"
        )
        assert silent in finding["message"]
        assert before["nodes"][0]["name"] in finding["message"]
        edit = finding["remedy"]["edit"]
        decided = client.call(
            "POST", "/api/plans/western/try", {"version": before["version"], "edits": [edit]}
        )
        moved = {
            ident for ident, host in hosts_of(decided).items() if host != hosts_of(before)[ident]
        }
        assert "lead-1" in moved
        assert f"to {hosts_of(decided)['lead-1']}" in finding["remedy"]["label"]
    finally:
        lab.turn(silent, **{key: type(value)() for key, value in knobs.items()})
        client.call("POST", "/api/estate/read", {})


def test_a_hanging_host_is_named_while_it_is_waited_for_and_ends_in_time(
    client: Client, server: ServerProcess, lab: LabProcess
) -> None:
    silent = hosts_of(client.call("GET", "/api/plans/western"))["lead-1"]
    lab.turn(silent, hang=True)
    answers: list[dict[str, Any]] = []
    told: list[str] = []

    def start() -> None:
        done = server.cli("run", "start", "western", "--json", check=1)
        answers.append(json.loads(done.stdout))
        told.append(done.stderr)

    thread = threading.Thread(target=start)
    began = time.monotonic()
    try:
        thread.start()
        wait_for(
            lambda: any(
                one["host"] == silent and one["seconds"] > 1
                for one in client.call("GET", "/api/estate/reading")
            ),
            20,
            "the host to be named",
        )
        thread.join(60)
        assert time.monotonic() - began < 50
        assert answers[0]["run"] == ""
        assert told == [f"Waiting for {silent} …\n"]
        finding = next(f for f in answers[0]["plan"]["findings"] if f["host"] == silent)
        assert "did not answer within 30 s" in finding["message"]
        assert client.call("GET", "/api/estate/reading") == []
    finally:
        lab.turn(silent, hang=False)
        client.call("POST", "/api/estate/read", {})
    run = client.call("POST", "/api/plans/western/run")["run"]
    assert ended(client, run)["state"] == "done"
