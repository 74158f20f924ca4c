"""kill -9 of the real server, again and again, at its journal's boundaries and in the middle of a
transfer: nothing lost, nothing made twice.
"""

from __future__ import annotations

import sqlite3
from collections import Counter
from collections.abc import Iterator
from pathlib import Path
from typing import Any

import pytest

from nimble_stone.lab.scenario import demo
from tests.support.processes import (
    LabProcess,
    ServerProcess,
    ended,
    prepare,
    small_package,
    wait_for,
)

SHARED = demo.PLAN.replace(
    "  pool: kelda-survey\n", "  pool: kelda-survey\n  datastore: kelda-shared\n"
)


@pytest.fixture
def place(tmp_path: Path) -> Iterator[tuple[LabProcess, ServerProcess]]:
    lab = LabProcess(tmp_path / "lab")
    data = tmp_path / "data"
    data.mkdir(mode=0o700)
    (data / "dial.yaml").write_text(lab.dial())
    server = ServerProcess(data)
    prepare(server.client(), lab, small_package(tmp_path), plan=SHARED)
    yield lab, server
    server.kill()
    server.stop()
    lab.stop()


def step_events(server: ServerProcess, run: str) -> list[tuple[int, str, str]]:
    """(id, step, kind) of what the journal holds of steps, read beside the server."""
    connection = sqlite3.connect(f"file:{server.data}/nimble-stone.db?mode=ro", uri=True)
    try:
        return connection.execute(
            "SELECT id, step, kind FROM run_event WHERE run = ? AND step != '' ORDER BY id", (run,)
        ).fetchall()
    finally:
        connection.close()


def ended_by_itself(server: ServerProcess, run: str) -> bool:
    """Whether the run is over, read beside the server."""
    connection = sqlite3.connect(f"file:{server.data}/nimble-stone.db?mode=ro", uri=True)
    try:
        return bool(
            connection.execute("SELECT state FROM run WHERE id = ?", (run,)).fetchone()[0]
            in ("done", "unproved")
        )
    finally:
        connection.close()


def killed_on_the_way(
    server: ServerProcess, run: str, *, most: int, least: int, spread: int
) -> list[str]:
    """Kill the server again and again while a run goes, at most so often; then start it for good.
    Between two kills the journal grows by `least` to `least + spread` entries. The kinds of the
    steps that were met, one for each kill.
    """
    met: list[str] = []
    while len(met) < most and not ended_by_itself(server, run):
        wanted = len(step_events(server, run)) + least + len(met) % spread
        wait_for(
            lambda least=wanted: (
                len(step_events(server, run)) >= least or ended_by_itself(server, run)
            ),
            60,
            "progress",
        )
        met.append(step_events(server, run)[-1][1].partition("/")[0])
        server.kill()
        server.start(wait=False)
    server.kill()
    server.start()
    return met


def refused(ended: dict[str, Any]) -> str:
    """What a run ended on: the steps that failed and the acceptance checks that do not hold. A
    text: pytest shortens lists.
    """
    steps = [f"{s['key']}: {s['message']}" for s in ended["steps"] if s["state"] == "failed"]
    checks = [
        f"{check['proof']} of {check['node']}: {check['found']}"
        for check in ended["proofs"]
        if not check["passed"]
    ]
    return "\n".join([*steps, *checks])


def made(lab: LabProcess, verb: str) -> Counter[str]:
    """How often each thing was really made, by the hosts' own account."""
    return Counter(
        line.removeprefix(f"{verb} ")
        for host in lab.show()["hosts"].values()
        for line in host["log"]
        if line.startswith(f"{verb} ")
    )


@pytest.mark.timeout(900)
def test_killed_at_every_boundary_the_run_ends_as_if_nothing_had_happened(
    place: tuple[LabProcess, ServerProcess],
) -> None:
    lab, server = place
    run = str(server.client().call("POST", "/api/plans/western/run")["run"])
    # three steps at once make seven entries before one of them ends
    lives = killed_on_the_way(server, run, most=150, least=1, spread=12)
    done = ended(server.client(), run)
    assert len(lives) >= 10
    assert done["state"] == "done", refused(done)
    names = {node["name"] for node in done["nodes"]}
    assert {
        name: count for name, count in made(lab, "defined").items() if name in names
    } == dict.fromkeys(names, 1)
    assert {
        name: count for name, count in made(lab, "started").items() if name in names
    } == dict.fromkeys(names, 1)
    volumes = [
        volume
        for volume in lab.show()["hosts"]["gannet"]["volumes"]
        if volume.startswith("ns-") and not volume.startswith("ns-base-")
    ]
    assert sorted(volumes) == sorted(
        f"ns-{run}-{name}-{what}" for name in names for what in ("disk0", "config")
    )
    finished = Counter(step for _, step, kind in step_events(server, run) if kind == "done")
    # each step is done once, and all are
    assert finished == Counter(step["key"] for step in done["steps"])


def test_killed_in_the_middle_of_a_transfer_the_disk_arrives_whole_and_once(
    place: tuple[LabProcess, ServerProcess],
) -> None:
    lab, server = place
    host = next(
        step["host"]
        for step in server.client().call("GET", "/api/plans/western/steps")
        if step["kind"] == "carry"
    )
    # with the lab's speed about 1 MB/s
    lab.turn(host, rate=3000.0)
    run = str(server.client().call("POST", "/api/plans/western/run")["run"])

    def bases() -> list[str]:
        return [
            volume
            for volume in lab.show()["hosts"][host]["volumes"]
            if volume.startswith("ns-base-")
        ]

    wait_for(lambda: bool(bases()), 30, "the transfer to begin")
    base = bases()[0]
    wait_for(
        lambda: any(
            path.stat().st_size > 200_000
            for path in (lab.folder / "volumes").iterdir()
            if path.suffix == ""
        ),
        30,
        "bytes on their way",
    )
    server.kill()
    lab.turn(host, rate=12e6)
    server.start()
    done = ended(server.client(), run)
    assert done["state"] == "done", [
        (s["key"], s["message"]) for s in done["steps"] if s["state"] == "failed"
    ]
    # the cut one never counted as arrived
    assert made(lab, "uploaded")[base] == 1
    assert any(event["kind"] == "taken-up" for event in done["events"])


def test_killed_while_taking_back_it_goes_on_and_leaves_nothing(
    place: tuple[LabProcess, ServerProcess],
) -> None:
    lab, server = place
    client = server.client()
    run = str(client.call("POST", "/api/plans/western/run")["run"])
    assert ended(client, run)["state"] == "done"
    client.call("POST", f"/api/runs/{run}/undo", {})
    server.kill()
    server.start()
    assert ended(server.client(), run, states=("undone",))["state"] == "undone"
    assert not [
        volume
        for host in lab.show()["hosts"].values()
        for volume in host["volumes"]
        if volume.startswith("ns-")
    ]
    assert not [
        guest
        for host in lab.show()["hosts"].values()
        for guest in host["guests"]
        if guest.startswith("western")
    ]


@pytest.mark.timeout(900)
def test_killed_while_a_deployment_changes_nothing_is_made_or_removed_twice(
    place: tuple[LabProcess, ServerProcess],
) -> None:
    lab, server = place
    client = server.client()
    first = str(client.call("POST", "/api/plans/western/run")["run"])
    assert ended(client, first)["state"] == "done"
    version = client.call("GET", "/api/plans/western")["version"]
    edits = [{"path": ["roles", "archive", "count"], "value": 3}]
    client.call("PATCH", "/api/plans/western", {"version": version, "edits": edits})
    # one node more, then one of the old ones made again
    for wanted in ({}, {"again": ["archive-1"]}):
        run = str(server.client().call("POST", "/api/plans/western/run", wanted)["run"])
        lives = killed_on_the_way(server, run, most=60, least=3, spread=9)
        done = ended(server.client(), run)
        assert len(lives) >= 3
        assert done["state"] == "done", refused(done)
        finished = Counter(step for _, step, kind in step_events(server, run) if kind == "done")
        assert finished == Counter(step["key"] for step in done["steps"])
    again = next(node["name"] for node in done["nodes"] if node["id"] == "archive-1")
    more = next(node["name"] for node in done["nodes"] if node["id"] == "archive-3")
    counts = made(lab, "defined")
    names = {node["name"] for node in done["nodes"]}
    assert {name: counts[name] for name in names} == {
        **dict.fromkeys(names, 1),
        again: 2,
        more: 1,
    }
    members = next(p["found"] for p in done["proofs"] if p["proof"] == "members")
    assert sorted(members.split(", ")) == sorted(names)
